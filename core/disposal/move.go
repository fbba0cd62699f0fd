package disposal

import (
	"cmp"
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
	if _, err := folder.MakeAll(in); err != nil {
		return fault.Writing(in, err)
	}
	// A hard link fails where something is, unlike a plain rename.
	err := os.Link(from, to)
	if errors.Is(err, fs.ErrExist) {
		return existing(to)
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

// Return moves a file that was moved as a source back to where it was, and reports whether it did,
// or in a dry run would: it may be there already. Of kind fault.Refused are that it is not
// what was moved (and Stays), and that something is in its place.
func Return(from, to string, size int64, modified time.Time, dryRun bool) (returned bool, err error) {
	is := func(path string) bool {
		info, err := os.Lstat(path)
		return err == nil && info.Mode().IsRegular() && info.Size() == size && info.ModTime().Equal(modified)
	}
	_, missing := os.Lstat(from)
	there, err := os.Lstat(to)
	switch {
	case missing != nil && is(to):
		return false, nil
	case missing != nil:
		return false, fault.At(from, fault.New(fault.Refused, "%w", &Stays{"it is not there any more, where it was moved"}))
	case !is(from):
		return false, fault.At(from, fault.New(fault.Refused, "%w", &Stays{"it changed since it was moved there"}))
	case err == nil && is(to): // a run was killed between the two steps of a move
		if same, err := blob.EqualFiles(blob.File{Path: from}, blob.File{Path: to, Info: there}); err != nil || !same {
			return false, cmp.Or(err, existing(to))
		}
		if dryRun {
			return true, nil
		}
		return true, fault.Writing(from, remove(from))
	case err == nil:
		return false, existing(to)
	case dryRun:
		return true, nil
	}
	return true, move(from, to)
}

func existing(path string) error {
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

// makeFile makes a file by way of a hidden one. What is there already is of kind
// fault.Refused.
func makeFile(to string, modified time.Time, fill func(out *os.File) error) (err error) {
	root, err := os.OpenRoot(filepath.Dir(to))
	if err != nil {
		return fault.Writing(to, err)
	}
	defer root.Close()
	dir, err := folder.Open(root, ".")
	if err != nil {
		return fault.Writing(to, err)
	}
	defer dir.Close()
	claim.ClearDead(dir, filepath.Dir(to))
	hidden := claim.Hidden(claim.NewPrefix(), 0)
	out, err := dir.OpenFile(hidden, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fault.Writing(to, err)
	}
	lock, err := claim.LockAlive(dir, hidden)
	if err == nil && lock != nil {
		defer lock.Close()
	}
	if err = fill(out); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = dir.SetTime(hidden, modified)
	}
	if err == nil {
		err = dir.MoveTo(hidden, dir.Handle, filepath.Base(to), false)
	}
	if err == nil {
		return nil
	}
	_ = dir.Remove(hidden) // the first error says what is wrong
	if errors.Is(err, fs.ErrExist) {
		return existing(to)
	}
	return fault.Writing(to, err)
}
