//go:build !linux

package folder

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"syscall"
	"time"
)

// Handle does by os.Root what has a shorter way on Linux. Names are single path elements, and
// none is followed if it is a link.
//
// On these systems there are no files without a name and no exchange: UnnamedRoom is 0, and
// the error of both is errors.ErrUnsupported. A move that never replaces is one call on macOS
// and Windows, and elsewhere a link and a removal. On Windows a move also fails while somebody
// has the file open without leave to remove it; Movable says so beforehand.
type Handle struct {
	base *os.Root // the destination root
	rel  string   // of the folder, below base
	root *os.Root // the folder
}

func openHandle(base *os.Root, rel string, root *os.Root) (Handle, error) {
	return Handle{base, rel, root}, nil
}

func (h Handle) Close() {}

// Make makes a new file; an existing one is an error.
func (h Handle) Make(name string, perm fs.FileMode) (File, error) {
	f, err := h.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm)
	if err != nil {
		return nil, err
	}
	return plainFile{f, h, name}, nil
}

// Free reports whether nothing has that name. What else is wrong shows when it is
// looked at.
func (h Handle) Free(name string) bool {
	_, err := h.root.Lstat(name)
	return errors.Is(err, fs.ErrNotExist)
}

// UnnamedRoom is 0: only Linux has files without names.
func (h Handle) UnnamedRoom() int { return 0 }

// OnDisk and MakeFor are of no use without them.
func (h Handle) OnDisk() bool { return false }
func (h Handle) MakeFor(to Handle, name string, perm fs.FileMode) (File, error) {
	return to.Make(name, perm)
}

// MakeUnnamed is only possible on Linux.
func (h Handle) MakeUnnamed(fs.FileMode) (Unnamed, error) { return nil, errors.ErrUnsupported }

// MoveTo renames name to newName in another folder. Without replace an existing
// newName is an error that is fs.ErrExist.
func (h Handle) MoveTo(name string, to Handle, newName string, replace bool) error {
	if !replace {
		if err := moveExclusive(h.full(name), to.full(newName)); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
		// A second name never replaces anything, as a rename would.
		if err := h.LinkTo(name, to, newName); err == nil {
			return h.root.Remove(name)
		}
		if _, err := to.root.Lstat(newName); !errors.Is(err, fs.ErrNotExist) {
			return errors.Join(err, fs.ErrExist)
		}
	}
	lock := Unlock(to.full(newName))
	err := Patient(func() error {
		if h.base == to.base {
			return h.base.Rename(path.Join(h.rel, name), path.Join(to.rel, newName))
		}
		return os.Rename(h.full(name), to.full(newName))
	})
	if err != nil {
		lock()
	}
	return err
}

// full is the path of a child; between two roots there is no other way.
func (h Handle) full(name string) string { return filepath.Join(h.base.Name(), h.rel, name) }

// LinkTo gives a file a second name in another folder.
func (h Handle) LinkTo(name string, to Handle, newName string) error {
	return os.Link(h.full(name), to.full(newName))
}

// Exchange is only possible on Linux.
func (h Handle) Exchange(string, Handle, string) error { return errors.ErrUnsupported }

// RemoveFolder removes a folder that is empty; a link to one is none.
func (h Handle) RemoveFolder(name string) error {
	if info, err := h.root.Lstat(name); err != nil || !info.IsDir() {
		return errors.Join(err, syscall.ENOTDIR)
	}
	return h.root.Remove(name)
}

// Removable is nil: only trying tells.
func (h Handle) Removable() error { return nil }

// SetTime sets the time of a file or folder; that of a link stays.
func (h Handle) SetTime(name string, t time.Time) error {
	info, err := h.root.Lstat(name)
	if err != nil || info.Mode()&fs.ModeSymlink != 0 {
		return err
	}
	return SetTime(h.root, name, t)
}

type plainFile struct {
	*os.File
	dir  Handle
	name string
}

func (f plainFile) Hole(n int64) error {
	end, err := f.Seek(n, io.SeekCurrent)
	if err != nil {
		return err
	}
	return f.Truncate(end)
}

// Finish sets the time after the file is closed, which would change it on some
// systems.
func (f plainFile) Finish(modified time.Time) error {
	err := f.Close()
	if err != nil || modified.IsZero() {
		return err
	}
	return f.dir.SetTime(f.name, modified)
}
