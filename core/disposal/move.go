package disposal

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// move moves a file to a path where nothing is yet, to another file system too, and makes
// the folder if it is missing. What is there already is of kind fault.Refused, and the file
// then stays where it is.
func move(from, to string) error {
	in := filepath.Dir(to)
	// A hard link fails where something is, unlike a plain rename.
	err := within(in, func() error { return os.Link(from, to) })
	if errors.Is(err, fs.ErrExist) {
		return Existing(to)
	}
	if err != nil { // on another file system, which may lose the name while this one does not
		if err = copyTo(from, to); err != nil {
			return err
		}
		err = syncFolder(in)
	}
	if err == nil {
		err = fault.Writing(from, remove(from))
	}
	if err != nil {
		if _, gone := os.Lstat(from); gone == nil { // it stays there, and only there
			_ = remove(to)
		}
	}
	return err
}

// Existing is the error of what is in the way at a path: kind fault.Refused.
func Existing(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already"))
}

// remove removes a file that somebody may have open for a moment.
func remove(path string) error {
	return folder.Patient(func() error { return os.Remove(path) })
}

// isBusy reports whether a folder could not be removed because something is in it, or is
// gone already.
func isBusy(err error) bool { return errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) }

// copyTo copies a file with its permissions and time.
func copyTo(from, to string) error {
	src, err := blob.Find(from)
	if err != nil {
		return err
	}
	data, err := src.Data()
	if err != nil {
		return err
	}
	defer data.Close()
	return makeFile(to, src.Info.ModTime(), func(out *os.File) error {
		if _, err := io.Copy(out, io.NewSectionReader(data, 0, data.Size())); err != nil {
			return err
		}
		if err := out.Chmod(src.Info.Mode().Perm()); err != nil {
			return err
		}
		return src.Unchanged()
	})
}

// within does something in a folder, which is made where it is missing, also where others make and
// remove the same folder at the same time.
func within(dir string, do func() error) error {
	return folder.Again(func() error {
		if _, err := folder.MakeAll(dir); err != nil {
			return fault.Writing(dir, err)
		}
		return do()
	})
}

// makeFile makes a file by way of a hidden one, and the folder if it is missing. What is there
// already is of kind fault.Refused.
func makeFile(to string, modified time.Time, fill func(out *os.File) error) (err error) {
	in := filepath.Dir(to)
	f := &unfinished{}
	if err = within(in, func() error { return f.begin(in) }); err != nil {
		return fault.Writing(to, err)
	}
	defer f.close()
	if err = fill(f.File); err == nil {
		err = f.Sync()
	}
	if closed := f.File.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = f.dir.SetTime(f.name, modified)
	}
	if err == nil {
		err = f.dir.MoveTo(f.name, f.dir.Handle, filepath.Base(to), false)
	}
	if err == nil {
		return nil
	}
	_ = f.dir.Remove(f.name) // the first error says what is wrong
	if errors.Is(err, fs.ErrExist) {
		return Existing(to)
	}
	return fault.Writing(to, err)
}

// unfinished is a hidden file that is being written.
type unfinished struct {
	*os.File
	name  string // in dir
	dir   *folder.Folder
	root  *os.Root // of the same folder
	lease *os.File
}

// begin starts the file in a folder.
func (u *unfinished) begin(in string) (err error) {
	if u.root, err = os.OpenRoot(in); err != nil {
		return err
	}
	if u.dir, err = folder.Open(u.root, "."); err != nil {
		u.root.Close()
		return err
	}
	claim.ClearDead(u.dir, in)
	prefix := ""
	if prefix, u.File, u.lease, err = claim.Begin(u.dir, 0o600); err != nil {
		u.dir.Close()
		u.root.Close()
	}
	u.name = claim.Hidden(prefix, 0)
	return err
}

func (u *unfinished) close() {
	u.lease.Close()
	u.dir.Close()
	u.root.Close()
}
