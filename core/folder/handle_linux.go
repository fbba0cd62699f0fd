package folder

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Handle does with one system call each what goes through several in package
// os: on small files that is half of the time. Names are single path elements,
// and none is followed if it is a link.
type Handle struct {
	dir *os.File
	fd  int
}

func openHandle(_ *os.Root, _ string, root *os.Root) (Handle, error) {
	dir, err := root.Open(".")
	if err != nil {
		return Handle{}, err
	}
	return Handle{dir, int(dir.Fd())}, nil
}

func (h Handle) Close() { h.dir.Close() }

// Make makes a new file; an existing one is an error.
func (h Handle) Make(name string, perm fs.FileMode) (File, error) {
	for {
		fd, err := unix.Openat(h.fd, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, uint32(perm))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, &fs.PathError{Op: "create", Path: name, Err: err}
		}
		return &rawFile{h.fd, fd, name}, nil
	}
}

// MoveTo renames name to newName in another folder. Without replace an existing
// newName is an error that is fs.ErrExist.
func (h Handle) MoveTo(name string, to Handle, newName string, replace bool) error {
	var flags uint = unix.RENAME_NOREPLACE
	if replace {
		flags = 0
	}
	err := unix.Renameat2(h.fd, name, to.fd, newName, flags)
	if !replace && (err == unix.EINVAL || err == unix.ENOSYS) { // a file system without that flag
		err = h.moveByLink(name, to, newName)
	}
	if err != nil {
		return &fs.PathError{Op: "move", Path: newName, Err: err}
	}
	return nil
}

// moveByLink moves a file by a second name, which never replaces anything; what
// can have none is moved after a look.
func (h Handle) moveByLink(name string, to Handle, newName string) error {
	err := unix.Linkat(h.fd, name, to.fd, newName, 0)
	if err == nil {
		return unix.Unlinkat(h.fd, name, 0)
	}
	if err == unix.EEXIST {
		return err
	}
	if err := unix.Faccessat(to.fd, newName, unix.F_OK, unix.AT_SYMLINK_NOFOLLOW); err == nil {
		return unix.EEXIST
	}
	return unix.Renameat(h.fd, name, to.fd, newName)
}

// LinkTo gives a file a second name in another folder.
func (h Handle) LinkTo(name string, to Handle, newName string) error {
	return unix.Linkat(h.fd, name, to.fd, newName, 0)
}

// Exchange swaps two files or folders at once; where that is impossible the
// error is errors.ErrUnsupported.
func (h Handle) Exchange(name string, to Handle, newName string) error {
	err := unix.Renameat2(h.fd, name, to.fd, newName, unix.RENAME_EXCHANGE)
	if err == unix.EINVAL || err == unix.ENOSYS {
		return errors.ErrUnsupported
	}
	return err
}

// SetTime sets the time of a file or folder, or of a link itself.
func (h Handle) SetTime(name string, t time.Time) error {
	ts, err := unix.TimeToTimespec(t)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(h.fd, name, []unix.Timespec{ts, ts}, unix.AT_SYMLINK_NOFOLLOW)
}

type rawFile struct {
	dir, fd int
	name    string
}

func (f *rawFile) Write(p []byte) (int, error) {
	written := 0
	for written < len(p) {
		n, err := unix.Write(f.fd, p[written:])
		if err != nil && err != unix.EINTR {
			return written, err
		}
		written += max(n, 0)
	}
	return written, nil
}

func (f *rawFile) Close() error {
	if err := unix.Close(f.fd); err != unix.EINTR {
		return err
	}
	return nil // on Linux it is closed all the same
}

func (f *rawFile) Hole(n int64) error {
	end, err := unix.Seek(f.fd, n, io.SeekCurrent)
	if err != nil {
		return err
	}
	return unix.Ftruncate(f.fd, end)
}

func (f *rawFile) SetTime(t time.Time) error { return Handle{fd: f.dir}.SetTime(f.name, t) }
