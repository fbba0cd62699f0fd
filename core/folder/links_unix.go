//go:build unix

package folder

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// NoLinks reports whether a symbolic link could not be made because the file system
// has none.
func NoLinks(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTSUP)
}

// TypedLinks reports whether a link to a folder is another kind of link.
const TypedLinks = false

// MakeSymlink makes a symbolic link with a name.
func (f *Folder) MakeSymlink(name, target string, _ bool) error { return f.Symlink(target, name) }

// Hide marks a folder that the system would list otherwise: here its name hides it.
func Hide(*os.Root, string) {}

// withoutWaiting opens a pipe at once, whether somebody writes to it or not.
const withoutWaiting = unix.O_NONBLOCK
