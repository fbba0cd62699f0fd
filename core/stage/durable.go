package stage

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"widecrate/core/fault"
)

// Move moves a file to a path where nothing is yet, to another file system too,
// and makes the folder if it is missing. What is there already is of kind
// fault.Refused, and the file then stays where it is.
func Move(from, to string) error {
	r := &Root{}
	if err := r.makeRoot(filepath.Dir(to)); err != nil {
		return fault.Writing(filepath.Dir(to), err)
	}
	src, err := os.Open(from)
	if err != nil {
		return fault.Reading(from, err)
	}
	defer src.Close()
	// A hard link fails where something is, unlike a plain rename.
	err = os.Link(from, to)
	if errors.Is(err, fs.ErrExist) {
		return taken(to)
	}
	if err != nil {
		if err := copyTo(src, to); err != nil {
			return err
		}
	}
	return fault.Writing(from, os.Remove(from))
}

// copyTo copies a file with its permissions and time.
func copyTo(src *os.File, to string) error {
	info, err := src.Stat()
	if err != nil {
		return fault.Reading(src.Name(), err)
	}
	n, err := Create(to, false)
	if err != nil {
		return err
	}
	if _, err = io.Copy(n, src); err == nil {
		err = n.Chmod(info.Mode().Perm())
	}
	if err == nil {
		err = os.Chtimes(n.Name(), info.ModTime(), info.ModTime())
	}
	if err != nil {
		_ = n.Discard() // the first error says what is wrong
		return fault.Writing(to, err)
	}
	return n.Commit(false)
}
