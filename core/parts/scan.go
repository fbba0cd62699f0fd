package parts

import (
	"io/fs"
	"os"
	"slices"

	"github.com/maruel/natural"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// Scan finds the sets in folders, and those that files are part of, in natural
// order. Parts may also lie in the folders more. The errors are of sources that
// cannot be looked at, and of files that are no parts.
func Scan(sites storage.Sites, sources []string, recursive bool, more []string) ([]*Set, []error) {
	s := scanner{sites: sites, recursive: recursive, more: more, seen: map[string]bool{}}
	for _, name := range sources {
		info, err := sites.Stat(name)
		if err == nil && info.IsDir() && !storage.IsFar(info) {
			s.folder(name)
		} else {
			s.file(name, err)
		}
	}
	return s.sets, s.errs
}

type scanner struct {
	sites     storage.Sites
	recursive bool
	more      []string
	seen      map[string]bool
	sets      []*Set
	errs      []error
}

func (s *scanner) take(sets ...*Set) {
	for _, set := range sets {
		key := storage.Absolute(set.Path())
		if !s.seen[key] {
			s.seen[key] = true
			s.sets = append(s.sets, set)
		}
	}
}

func (s *scanner) file(name string, missing error) {
	set, err := Around(s.sites, name, s.more)
	switch {
	case err == nil:
		s.take(set)
	case missing != nil:
		s.errs = append(s.errs, fault.Reading(name, missing))
	default:
		s.errs = append(s.errs, err)
	}
}

func (s *scanner) folder(path string) {
	children, err := os.ReadDir(path)
	if err != nil {
		s.errs = append(s.errs, fault.Reading(path, err))
		return
	}
	names := make([]string, len(children))
	for i, child := range children {
		names[i] = child.Name()
	}
	sets, rest, err := (&Lookup{Sites: s.sites, More: s.more}).In(path, names)
	if err != nil {
		s.errs = append(s.errs, err)
		return
	}
	for _, name := range rest {
		if set, _ := OfLast(s.sites, storage.Join(path, name)); set != nil {
			sets = append(sets, set)
		}
	}
	slices.SortFunc(sets, func(a, b *Set) int { return natural.Compare(a.Path(), b.Path()) })
	s.take(sets...)
	if !s.recursive {
		return
	}
	folders := slices.DeleteFunc(children, func(c fs.DirEntry) bool { return !c.IsDir() || place.IsStaging(c.Name()) })
	slices.SortFunc(folders, func(a, b fs.DirEntry) int { return natural.Compare(a.Name(), b.Name()) })
	for _, child := range folders {
		s.folder(storage.Join(path, child.Name()))
	}
}
