package create

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"widecrate/core/fault"
)

// Things are what lies in a folder, each to be an archive of its own: files and folders, in
// natural order, but for hidden ones. Nothing at all is of kind fault.NoMatch.
func Things(folder string, foldersOnly bool) (paths []string, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, fault.Reading(folder, err)
	}
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		info, err := os.Stat(path) // a link stands for what it leads to, as a source does
		switch {
		case strings.HasPrefix(e.Name(), "."):
		case err != nil:
			return nil, fault.Reading(path, err)
		case info.IsDir() || info.Mode().IsRegular() && !foldersOnly:
			paths = append(paths, path)
		}
	}
	if paths == nil {
		return nil, fault.At(folder, fault.New(fault.NoMatch, "there is nothing in it to pack"))
	}
	slices.SortFunc(paths, natural.Compare)
	return paths, nil
}
