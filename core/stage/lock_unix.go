//go:build unix

package stage

import (
	"os"

	"golang.org/x/sys/unix"
)

// lock takes the lock of a file, or fails at once if another run holds it. It
// ends with the process.
func lock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }
