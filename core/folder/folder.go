// Package folder keeps handles on folders, and does with their children by one
// system call each what is done once for every file: make, move, link, exchange,
// set times. It decides nothing.
package folder

import (
	"errors"
	"io/fs"
	"os"
	"time"
)

// A Folder is a handle on one folder, through which its children are reached
// by their last name. Walking from the root for each file would cost a lookup
// for each folder on the way; keeping the handle costs none. The operations
// that run once a file are its Handle's, one for each kind of system.
type Folder struct {
	*os.Root
	Handle
}

// Open opens the folder at a path below base.
func Open(base *os.Root, rel string) (*Folder, error) {
	sub, err := base.OpenRoot(rel)
	if err != nil {
		return nil, err
	}
	h, err := openHandle(base, rel, sub)
	if err != nil {
		sub.Close()
		return nil, err
	}
	return &Folder{sub, h}, nil
}

// OpenPath opens the folder at a path, through links.
func OpenPath(path string) (*Folder, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	h, err := openHandle(root, ".", root)
	if err != nil {
		root.Close()
		return nil, err
	}
	return &Folder{root, h}, nil
}

// Close lets go of the folder.
func (f *Folder) Close() {
	f.Handle.Close()
	f.Root.Close()
}

// Names lists what is in the folder.
func (f *Folder) Names() ([]string, error) {
	dir, err := f.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.Readdirnames(-1)
}

// Remove removes a child.
func (f *Folder) Remove(name string) error {
	return Patient(func() error { return f.Root.Remove(name) })
}

// RemoveAll removes a child with all that is in it.
func (f *Folder) RemoveAll(name string) error {
	return Patient(func() error { return f.Root.RemoveAll(name) })
}

// Clear is RemoveAll for what this run, or one before it, made: also where its owner may
// not write to a folder of it.
func (f *Folder) Clear(name string) error {
	err := f.RemoveAll(name)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	if err := opened(f.Root, name); err != nil {
		return err
	}
	return f.RemoveAll(name)
}

// opened lets the owner of a folder write to it and to those below it.
func opened(base *os.Root, name string) error {
	if info, err := base.Lstat(name); err != nil || !info.IsDir() {
		return err
	}
	if err := base.Chmod(name, 0o700); err != nil {
		return err
	}
	root, err := base.OpenRoot(name)
	if err != nil {
		return err
	}
	defer root.Close()
	children, err := fs.ReadDir(root.FS(), ".")
	for _, child := range children {
		if err == nil && child.IsDir() {
			err = opened(root, child.Name())
		}
	}
	return err
}

// A File is a new file that is being written.
type File interface {
	Write(p []byte) (int, error)
	// Hole makes the file longer by n bytes that are zeros, and continues after
	// them.
	Hole(n int64) error
	// Finish ends the writing and sets the time of the file, unless that is zero.
	Finish(modified time.Time) error
}

// An Unnamed is a file that has no name yet. It goes when it is closed without one.
type Unnamed interface {
	File
	// NameIn gives the finished file a name in a folder. One that is taken is an
	// error that is fs.ErrExist.
	NameIn(to Handle, name string) error
	// Stat returns the size and time of the finished file.
	Stat() (size int64, modified time.Time, err error)
	Close() error
}
