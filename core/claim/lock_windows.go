package claim

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// Lock takes the lock of a file, or fails at once if another process holds it. It
// ends with the process. The locked byte is far after the content, which others still
// have to read.
func Lock(f *os.File) error {
	const flags = windows.LOCKFILE_EXCLUSIVE_LOCK | windows.LOCKFILE_FAIL_IMMEDIATELY
	return windows.LockFileEx(windows.Handle(f.Fd()), flags, 0, 1, 0, &windows.Overlapped{OffsetHigh: 1})
}

func unlock(f *os.File) {
	_ = windows.UnlockFileEx(windows.Handle(f.Fd()), 0, 1, 0, &windows.Overlapped{OffsetHigh: 1})
}

// leaving reports whether a file could not be opened because it is being removed.
func leaving(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_DELETE_PENDING)
}

// Held reports whether Lock failed because another process holds it.
func Held(err error) bool {
	return err == windows.ERROR_LOCK_VIOLATION || err == windows.ERROR_IO_PENDING
}
