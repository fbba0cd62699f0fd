package folder

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// NoLinks reports whether a symbolic link could not be made because the file system
// has none, or the user lacks the right to make them.
func NoLinks(err error) bool {
	return errors.Is(err, windows.ERROR_PRIVILEGE_NOT_HELD) || errors.Is(err, windows.ERROR_NOT_SUPPORTED) || errors.Is(err, windows.ERROR_INVALID_FUNCTION)
}

// TypedLinks reports whether a link to a folder is another kind of link.
const TypedLinks = true

// MakeSymlink makes a symbolic link with a name, to a folder or to a file. Its target may not
// be there yet, and so the system cannot know which.
func (f *Folder) MakeSymlink(name, target string, toFolder bool) error {
	const withoutRights = 2 // SYMBOLIC_LINK_FLAG_ALLOW_UNPRIVILEGED_CREATE
	flags := uint32(withoutRights)
	if toFolder {
		flags |= windows.SYMBOLIC_LINK_FLAG_DIRECTORY
	}
	at, err := windows.UTF16PtrFromString(f.full(name))
	if err != nil {
		return err
	}
	to, err := windows.UTF16PtrFromString(filepath.FromSlash(target))
	if err != nil {
		return err
	}
	if err := windows.CreateSymbolicLink(at, to, flags); err != nil {
		return err
	}
	if _, err := f.Lstat(name); err != nil { // the system said that it made one
		return windows.ERROR_NOT_SUPPORTED
	}
	return nil
}

// Hide marks a folder so that the system does not list it.
func Hide(base *os.Root, name string) {
	path, err := windows.UTF16PtrFromString(filepath.Join(base.Name(), name))
	if err == nil {
		_ = windows.SetFileAttributes(path, windows.FILE_ATTRIBUTE_HIDDEN) // shown, it does its work as well
	}
}

// withoutWaiting is nothing: no folder has pipes there.
const withoutWaiting = 0
