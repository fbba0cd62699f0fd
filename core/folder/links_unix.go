//go:build unix

package folder

import (
	"errors"

	"golang.org/x/sys/unix"
)

// NoLinks reports whether a symbolic link could not be made because the file system
// has none.
func NoLinks(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTSUP)
}
