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

func openFolder(base *os.Root, rel string) (*folder, error) {
	sub, err := base.OpenRoot(rel)
	if err != nil {
		return nil, err
	}
	h, err := openHandle(base, rel, sub)
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

// names lists what is in the folder.
func (f *folder) names() ([]string, error) {
	dir, err := f.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.Readdirnames(-1)
}

// A file is a new file that is being written.
type file interface {
	Write(p []byte) (int, error)
	Close() error
	// hole makes the file longer by n bytes that are zeros, and goes on behind
	// them.
	hole(n int64) error
	// setTime sets the time of the file; it may have to be closed before.
	setTime(t time.Time) error
}

// finish closes a file and sets its time, unless that is zero.
func finish(f file, modified time.Time) error {
	err := f.Close()
	if err != nil || modified.IsZero() {
		return err
	}
	return f.setTime(modified)
}

// perm returns the permissions to make a file with; the system takes its mask
// off.
func (it *Item) perm() fs.FileMode {
	if it.HasMode {
		return it.Mode & fs.ModePerm
	}
	return 0o666
}
