//go:build unix

package stage

import (
	"errors"

	"golang.org/x/sys/unix"

	"widecrate/core/claim"
)

// tryHold holds a root until release is called; see Root.hold.
func tryHold(r *Root) (release func(), err error) {
	if r.gate == nil {
		if r.gate, err = r.dest.Open("."); err != nil {
			return nil, err
		}
	}
	switch claim.Lock(r.gate) {
	case nil:
		return func() { _ = unix.Flock(int(r.gate.Fd()), unix.LOCK_UN) }, nil
	case unix.EWOULDBLOCK, unix.EINTR:
		return nil, errHeld
	}
	return nil, errors.ErrUnsupported // not every file system locks folders
}
