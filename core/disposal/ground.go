package disposal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// A Ground is where something may be taken away, and put: below some folders, through which a link may lead. Nothing
// else is removed, moved or made, and no link below them is followed. What is looked at there is acted on through
// handles, after a second look: whatever becomes of a folder in between, only what was seen goes. A Ground is not for
// several goroutines.
type Ground struct {
	roots []string // absolute
	ways  map[way]*folder.Descent
}

// way is one of the two that a move needs: from a root, and to one.
type way struct {
	root string
	to   bool
}

// NewGround is that of folders, by their absolute paths.
func NewGround(roots []string) *Ground { return &Ground{roots, map[way]*folder.Descent{}} }

// Close lets go of all folders.
func (g *Ground) Close() {
	for _, d := range g.ways {
		d.Close()
	}
	g.ways = map[way]*folder.Descent{}
}

// rootOf is the innermost of the folders that a path lies below; empty: there is none.
func (g *Ground) rootOf(path string) (root string) {
	if !filepath.IsAbs(path) || filepath.Clean(path) != path {
		return ""
	}
	for _, r := range g.roots {
		if rel, below := strings.CutPrefix(path, r); below && rel != "" && len(r) > len(root) && (os.IsPathSeparator(rel[0]) || os.IsPathSeparator(r[len(r)-1])) {
			root = r
		}
	}
	return root
}

// below is a path from a root on.
func below(root, path string) string {
	return strings.TrimLeft(path[len(root):], string(filepath.Separator))
}

// at opens the folder of a path, and says what the last name there is.
func (g *Ground) at(path string, to, create bool) (dir *folder.Folder, name string, err error) {
	root := g.rootOf(path)
	if root == "" {
		return nil, "", fault.At(path, fault.New(fault.Refused, "it lies in none of the folders that the run named").Advise("nothing is done there"))
	}
	w := way{root, to}
	d := g.ways[w]
	if d == nil {
		if create {
			if _, err := folder.MakeAll(root); err != nil {
				return nil, "", err
			}
		}
		if d, err = folder.Descend(root); err != nil {
			return nil, "", err
		}
		g.ways[w] = d
	}
	rel := below(root, path)
	if dir, err = d.To(filepath.Dir(rel), create); errors.Is(err, folder.ErrLink) {
		link, _ := errors.AsType[*fs.PathError](err)
		err = fault.New(fault.Refused, "the folder %s is a link now", filepath.Join(root, link.Path))
	}
	return dir, filepath.Base(rel), err
}

// in does something in the folder of a path, which is made where it is missing, also where others make and remove the
// same folder at the same time.
func (g *Ground) in(path string, do func(dir *folder.Folder, name string) error) error {
	err := folder.Again(func() error {
		dir, name, err := g.at(path, true, true)
		if err == nil {
			err = do(dir, name)
		}
		if errors.Is(err, fs.ErrNotExist) { // a folder has vanished
			g.leave(way{g.rootOf(path), true})
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
	dir, name := (*folder.Folder)(nil), filepath.Base(path)
	for w := range g.ways { // not every system removes what is open
		if w.to || place.Below(path, w.root) != w.root || path == w.root {
			g.leave(w)
		}
	}
	if slices.ContainsFunc(g.roots, func(root string) bool { return place.Below(path, root) != root || path == root }) {
		var above *folder.Descent
		if above, err = folder.Descend(filepath.Dir(path)); err == nil {
			defer above.Close()
			dir, err = above.To(".", false)
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
		if err = dir.Mkdir(name, 0o777); errors.Is(err, fs.ErrExist) {
			err = nil
		}
	}
	return fault.Writing(path, err)
}

// Settle gives a folder permissions, and the time of another.
func (g *Ground) Settle(path string, perm fs.FileMode, like fs.FileInfo) error {
	dir, name, err := g.at(path, true, false)
	if err == nil {
		if info, err := dir.Lstat(name); err != nil || !info.IsDir() {
			return fault.Writing(path, err)
		}
		if err = dir.Chmod(name, perm); err == nil {
			err = dir.SetTime(name, like.ModTime())
		}
	}
	return fault.Writing(path, err)
}

// Removable makes sure that what was seen can be removed, as far as the system tells before that is tried.
func (g *Ground) Removable(s *Seen) error {
	dir, _, err := g.at(s.Path, false, false)
	if err == nil {
		err = dir.Removable()
	}
	return fault.Writing(filepath.Dir(s.Path), err)
}
