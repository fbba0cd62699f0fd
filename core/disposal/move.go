package disposal

import (
	"errors"
	"io/fs"
	"os"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

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
