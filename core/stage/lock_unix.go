//go:build unix

package stage

import (
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// lock takes the lock of a file, or fails at once if another run holds it. It
// ends with the process.
func lock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }

// openGate holds a root until it is closed; see Root.hold.
func openGate(r *Root) (io.Closer, error) {
	f, err := r.dest.Open(".")
	if err != nil {
		return nil, err
	}
	switch err = lock(f); err {
	case nil:
		return f, nil
	case unix.EWOULDBLOCK, unix.EINTR:
		err = errHeld
	default: // not every file system locks folders
		err = errors.ErrUnsupported
	}
	f.Close()
	return nil, err
}
