package source

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/maruel/natural"

	"widecrate/core/fault"
	"widecrate/core/remote"
)

// isPattern reports whether a name that does not exist is a pattern: on Windows, where
// no name can hold a star or a question mark, and no shell expands them.
func isPattern(name string) bool {
	return runtime.GOOS == "windows" && strings.ContainsAny(strings.TrimPrefix(name, `\\?\`), "*?")
}

// Expand replaces patterns, on Windows, by what matches them. One that nothing
// matches stays, and is then missed like any other name.
func Expand(names []string) ([]string, error) {
	var all []string
	for _, name := range names {
		if remote.IsAddress(name) {
			return nil, fault.At(name, fault.New(fault.Usage, "it is an address, and only archives are read from addresses"))
		}
		if !isPattern(name) {
			all = append(all, name)
			continue
		}
		matches, err := Match(name)
		if err != nil {
			return nil, fault.At(name, err)
		}
		if matches == nil {
			matches = []string{name}
		}
		all = append(all, matches...)
	}
	return all, nil
}

// literal keeps all but stars and question marks from having a meaning in a pattern.
var literal = strings.NewReplacer("[", `\[`, "]", `\]`, "{", `\{`, "}", `\}`, `\`, `\\`)

// Match lists the files and folders whose paths match a pattern, in natural order. In
// each name of it a star stands for any characters and a question mark for one, letter
// case does not count, and all else is literal, brackets too.
func Match(pattern string) ([]string, error) {
	volume := filepath.VolumeName(pattern)
	rest := filepath.ToSlash(pattern[len(volume):])
	found := []string{volume}
	if below, rooted := strings.CutPrefix(rest, "/"); rooted {
		found, rest = []string{volume + string(filepath.Separator)}, below
	}
	for name := range strings.SplitSeq(rest, "/") {
		var below []string
		for _, dir := range found {
			matches, err := matchIn(dir, name)
			if err != nil {
				return nil, err
			}
			below = append(below, matches...)
		}
		found = below
	}
	slices.SortFunc(found, natural.Compare)
	return found, nil
}

// matchIn does so for the last name of a path.
func matchIn(dir, name string) ([]string, error) {
	in := func(child string) string { return filepath.Join(dir, child) }
	if dir == "" {
		in = func(child string) string { return child }
	}
	if !strings.ContainsAny(name, "*?") {
		if _, err := os.Lstat(in(name)); err != nil {
			return nil, nil
		}
		return []string{in(name)}, nil
	}
	if info, err := os.Stat(in(".")); errors.Is(err, fs.ErrNotExist) || err == nil && !info.IsDir() {
		return nil, nil
	}
	children, err := os.ReadDir(in("."))
	if err != nil {
		return nil, fault.Reading("", err)
	}
	var found []string
	for _, child := range children {
		if ok, _ := doublestar.Match(strings.ToLower(literal.Replace(name)), strings.ToLower(child.Name())); ok {
			found = append(found, in(child.Name()))
		}
	}
	return found, nil
}
