package stage

import (
	"io/fs"
	"os"
	"time"
)

// A folder is a handle on one folder, through which its children are reached
// by their last name. Walking from the root for each file would cost a lookup
// for each folder on the way; keeping the handle costs none. The operations
// that run once a file are its handle's, one for each kind of system.
type folder struct {
	*os.Root
	handle
}

func openFolder(root *os.Root, rel string) (*folder, error) {
	sub, err := root.OpenRoot(rel)
	if err != nil {
		return nil, err
	}
	h, err := openHandle(root, rel, sub)
	if err != nil {
		sub.Close()
		return nil, err
	}
	return &folder{sub, h}, nil
}

func (f *folder) close() {
	f.handle.close()
	f.Root.Close()
}

// A file is a new file that is being written.
type file interface {
	Write(p []byte) (int, error)
	// finish sets the time, unless it is zero, and closes the file.
	finish(modified time.Time) error
}

// perm returns the permissions to make a file with; the system takes its mask
// off.
func (it *Item) perm() fs.FileMode {
	if it.HasMode {
		return it.Mode & fs.ModePerm
	}
	return 0o666
}
