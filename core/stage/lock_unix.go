//go:build unix

package stage

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// lock takes the lock of a file, or fails at once if another run holds it. It
// ends with the process.
func lock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }

// tryHold holds a root until release is called; see Root.hold.
func tryHold(r *Root) (release func(), err error) {
	if r.gate == nil {
		if r.gate, err = r.dest.Open("."); err != nil {
			return nil, err
		}
	}
	switch lock(r.gate) {
	case nil:
		return func() { _ = unix.Flock(int(r.gate.Fd()), unix.LOCK_UN) }, nil
	case unix.EWOULDBLOCK, unix.EINTR:
		return nil, errHeld
	}
	return nil, errors.ErrUnsupported // not every file system locks folders
}
