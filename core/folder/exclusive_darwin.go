package folder

import (
	"errors"

	"golang.org/x/sys/unix"
)

// moveExclusive moves a file or folder to a path where nothing is: one that is taken
// is an error that is fs.ErrExist. It is one call of the system, where the file system
// has it; elsewhere the error is errors.ErrUnsupported.
func moveExclusive(from, to string) error {
	err := unix.RenamexNp(from, to, unix.RENAME_EXCL)
	if err == unix.ENOTSUP || err == unix.EINVAL {
		return errors.ErrUnsupported
	}
	return err
}
