package disposal

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"syscall"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/storage"
)

// A Ground is where something may be taken away, and put: below some folders, through which a link may lead. Nothing
// else is removed, moved or made, and no link below them is followed. What is looked at there is acted on through
// handles, after a second look: whatever becomes of a folder in between, only what was seen goes. A Ground is not for
// several goroutines.
type Ground struct {
	sites storage.Sites
	roots []string // absolute
	ways  map[way]storage.Descent
}

// way is one of the two that a move needs: from a root, and to one.
type way struct {
	root string
	to   bool
}

// NewGround is that of folders, by their absolute paths.
func NewGround(sites storage.Sites, roots []string) *Ground {
	return &Ground{sites, roots, map[way]storage.Descent{}}
}

// Close lets go of all folders.
func (g *Ground) Close() {
	for _, d := range g.ways {
		d.Close()
	}
	g.ways = map[way]storage.Descent{}
}

// rootOf is the innermost of the folders that a path lies below, and the path from there on, with slashes; empty:
// there is none.
func (g *Ground) rootOf(file string) (root, rel string) {
	for _, r := range g.roots {
		if below, is := storage.Inside(r, file); is && len(r) > len(root) {
			root, rel = r, below
		}
	}
	return root, rel
}

// at opens the folder of a path, and says what the last name there is.
func (g *Ground) at(file string, to, create bool) (dir storage.Folder, name string, err error) {
	root, rel := g.rootOf(file)
	if root == "" {
		return nil, "", fault.At(file, fault.New(fault.Refused, "it lies in none of the folders that the run named").Advise("nothing is done there"))
	}
	w := way{root, to}
	d := g.ways[w]
	if d == nil {
		if d, err = g.sites.Descend(root); create && errors.Is(err, fs.ErrNotExist) {
			var made storage.Folder
			if made, _, err = g.sites.Make(root); err == nil {
				made.Close()
				d, err = g.sites.Descend(root)
			}
		}
		if err != nil {
			return nil, "", err
		}
		g.ways[w] = d
	}
	if dir, err = d.To(path.Dir(rel), create); errors.Is(err, folder.ErrLink) {
		link, _ := errors.AsType[*fs.PathError](err)
		err = fault.New(fault.Refused, "the folder %s is a link now", filepath.Join(root, link.Path))
	}
	return dir, path.Base(rel), err
}

// in does something in the folder of a path, which is made where it is missing, also where others make and remove the
// same folder at the same time.
func (g *Ground) in(path string, do func(dir storage.Folder, name string) error) error {
	root, _ := g.rootOf(path)
	err := g.sites.Again(root, func() error {
		dir, name, err := g.at(path, true, true)
		if err == nil {
			err = do(dir, name)
		}
		if errors.Is(err, fs.ErrNotExist) { // a folder has vanished
			g.leave(way{root, true})
		}
		return err
	})
	if errors.Is(err, fs.ErrExist) {
		return Existing(path)
	}
	return fault.Writing(path, err)
}

// leave lets go of what is open on a way.
func (g *Ground) leave(w way) {
	if d := g.ways[w]; d != nil {
		d.Close()
		delete(g.ways, w)
	}
}

// RemoveFolder removes a folder that is empty: one below the others, one of them, or one that they lie in. A folder in
// which something lies stays, and so does what is no folder.
func (g *Ground) RemoveFolder(path string) (err error) {
	dir, name := storage.Folder(nil), storage.Base(path)
	for w := range g.ways { // not every system removes what is open
		if w.to || storage.Below(path, w.root) != w.root || path == w.root {
			g.leave(w)
		}
	}
	if slices.ContainsFunc(g.roots, func(root string) bool { return storage.Below(path, root) != root || path == root }) {
		if dir, err = g.sites.Open(storage.Dir(path)); err == nil {
			defer dir.Close()
		}
	} else {
		dir, name, err = g.at(path, false, false)
	}
	if err == nil {
		err = dir.RemoveFolder(name)
	}
	if err == nil || isBusy(err) || errors.Is(err, syscall.ENOTDIR) || fault.Of(err) == fault.Refused {
		return nil
	}
	return fault.Writing(path, err)
}

// MakeFolder makes a folder where it is missing, with those above it.
func (g *Ground) MakeFolder(path string) error {
	dir, name, err := g.at(path, true, true)
	if err == nil {
		if err = dir.MakeFolder(name); errors.Is(err, fs.ErrExist) {
			err = nil
		}
	}
	return fault.Writing(path, err)
}

// Settle gives a folder permissions, and the time of another, where the place has such.
func (g *Ground) Settle(path string, perm fs.FileMode, like fs.FileInfo) error {
	dir, name, err := g.at(path, true, false)
	if stamps, can := dir.(storage.Stamper); can && err == nil {
		if info, err := dir.Lstat(name); err != nil || !info.IsDir() {
			return fault.Writing(path, err)
		}
		if err = stamps.Chmod(name, perm); err == nil {
			err = stamps.SetTime(name, like.ModTime())
		}
	}
	return fault.Writing(path, err)
}

// Removable makes sure that what was seen can be removed, as far as the system tells before that is tried.
func (g *Ground) Removable(s *Seen) error {
	dir, _, err := g.at(s.Path, false, false)
	if knows, can := dir.(interface{ Removable() error }); can && err == nil {
		err = knows.Removable()
	}
	return fault.Writing(storage.Dir(s.Path), err)
}
