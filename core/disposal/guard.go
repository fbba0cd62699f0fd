package disposal

import (
	"os"
	"path/filepath"

	"widecrate/core/folder"
	"widecrate/core/place"
)

// A Guard knows what must stay while folders are swapped: sources, receipts, lists, and
// the folders of other archives. Folders are told apart by what they are on the disk, and
// also by their paths, for those that are not there yet.
type Guard struct {
	byPath map[string]string
	byID   map[folder.ID]string
}

// Keep notes that something lies at a path; what says what that is.
func (g *Guard) Keep(path, what string) {
	if g.byPath == nil {
		g.byPath, g.byID = map[string]string{}, map[folder.ID]string{}
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return // nothing can be at such a path
	}
	g.keep(full, what)
	for dir := full; ; dir = filepath.Dir(dir) {
		if resolved, err := filepath.EvalSymlinks(dir); err == nil { // the deepest that there is
			g.keep(resolved, what)
			return
		}
		if dir == filepath.Dir(dir) {
			return
		}
	}
}

// keep marks a path and all folders above it.
func (g *Guard) keep(path, what string) {
	for at := path; ; at = filepath.Dir(at) {
		key := place.Key(at)
		if _, marked := g.byPath[key]; marked {
			return // and all above it are
		}
		g.byPath[key] = what
		if info, err := os.Stat(at); err == nil && info.IsDir() {
			if id, _, known := folder.IDOf(at, info); known && g.byID[id] == "" {
				g.byID[id] = what
			}
		}
		if at == filepath.Dir(at) {
			return
		}
	}
}

// Within is what must stay and lies in a folder, or is that folder; empty: nothing.
func (g *Guard) Within(path string) string {
	full, err := filepath.Abs(path)
	if err != nil {
		return ""
	}
	if what := g.byPath[place.Key(full)]; what != "" {
		return what
	}
	info, err := os.Stat(full)
	if err != nil {
		return ""
	}
	id, _, _ := folder.IDOf(full, info)
	return g.byID[id]
}
