//go:build unix

package claim

import (
	"os"

	"golang.org/x/sys/unix"
)

// Lock takes the lock of a file, or fails at once if another process holds it. It
// ends with the process.
func Lock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }

func unlock(f *os.File) { _ = unix.Flock(int(f.Fd()), unix.LOCK_UN) }

// running reports whether a process is there, as far as this one can see.
func running(pid int) bool { return unix.Kill(pid, 0) != unix.ESRCH }

// leaving reports whether a file could not be opened because it is being removed, which
// is only so on Windows.
func leaving(error) bool { return false }

// Held reports whether Lock failed because another process holds it.
func Held(err error) bool { return err == unix.EWOULDBLOCK }
