package stage

import (
	"io/fs"
	"path"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// linkAll stages the symbolic links, after all else: nothing is ever written through
// one.
func (u *staging) linkAll() error {
	w := u.Writer()
	defer w.Close()
	for i := range u.items {
		if u.items[i].Kind == archive.Symlink && u.result[i].Action != Skipped {
			err := w.link(i)
			if folder.NoLinks(err) {
				return fault.At(u.site.full(u.result[i].Path), fault.New(fault.Unwritable, "no symbolic link can be made there: %w", fault.Bare(err)).Suggest(fault.SkipLinks))
			}
			if err != nil {
				return fault.Writing(u.site.full(u.result[i].Path), err)
			}
		}
	}
	return nil
}

// leadsToFolder reports whether a link leads to a folder, where that matters: one of
// the unit, or one that is there.
func (u *staging) leadsToFolder(i int) bool {
	if !folder.TypedLinks {
		return false
	}
	if u.folders == nil {
		u.folders = map[string]bool{".": true}
		for k := range u.items {
			dir := u.items[k].Path
			if u.items[k].Kind != archive.Folder {
				dir = path.Dir(dir)
			}
			for ; !u.folders[u.site.fold(dir)]; dir = path.Dir(dir) {
				u.folders[u.site.fold(dir)] = true
			}
		}
	}
	target := path.Join(path.Dir(u.items[i].Path), u.items[i].Link)
	if !u.folders[u.site.fold(target)] {
		there, err := u.site.dest.Stat(path.Join(u.folder, target))
		if err != nil || !there.IsDir() {
			return false
		}
	}
	u.folders[u.site.fold(u.items[i].Path)] = true // for links to this one
	return true
}

// checkLink makes sure that a symbolic link leads to something below the folder of its unit from where
// it is really made: links of other archives may lie on the way there. Anything else is of kind
// fault.Unsafe.
func (s *survey) checkLink(it *Item) error {
	dir := below(s.where.folder, path.Dir(it.Path))
	made, err := s.resolve(dir)
	if err != nil || made == dir {
		return err
	}
	top, err := s.resolve(s.where.folder)
	if err != nil {
		return err
	}
	if top != "." {
		inside := false
		if made, inside = strings.CutPrefix(made+"/", top+"/"); !inside {
			return fault.New(fault.Unsafe, "the way to it leads out of its folder, through a link that is there").Suggest(fault.SkipLinks)
		}
	}
	return place.CheckLink(path.Join(made, path.Base(it.Path)), it.Link)
}

// longestWay is how many links may lie on the way to a folder.
const longestWay = 40

// resolve follows the links on the way to a folder below the base, those that are there, and those that
// units before would have put there.
func (s *survey) resolve(dir string) (string, error) {
	at, links := ".", 0
	for rest := strings.Split(dir, "/"); len(rest) > 0; {
		name := rest[0]
		rest = rest[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			at = path.Dir(at) // of the base, too: what is opened there is refused
			continue
		}
		next := below(at, name)
		target, err := s.linkAt(next)
		if err != nil {
			return "", fault.Writing(s.site.full(next), err)
		}
		if target == "" {
			at = next
			continue
		}
		if links++; links > longestWay {
			return "", fault.New(fault.Unsafe, "more than %d links lie on the way to it", longestWay).Suggest(fault.SkipLinks)
		}
		rest = append(strings.Split(target, "/"), rest...)
	}
	return at, nil
}

// linkAt is where a link below the base leads; empty: there is none.
func (s *survey) linkAt(at string) (target string, err error) {
	if planned, is := s.planned[s.site.fold(at)]; is && planned.Kind == archive.Symlink {
		return planned.Link, nil
	}
	if s.where.base == nil {
		return "", nil
	}
	info, err := s.where.base.Lstat(at)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return "", ignoreMissing(err)
	}
	return s.where.base.Readlink(at)
}
