// Package folder keeps handles on folders, and does with their children by one
// system call each what is done once for every file: make, move, link, exchange,
// set times. It decides nothing.
package folder

import (
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
