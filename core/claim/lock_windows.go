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

// running reports whether a process is there, as far as this one can see.
func running(pid int) bool {
	const stillActive = 259
	p, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(pid))
	if err != nil {
		return err != windows.ERROR_INVALID_PARAMETER
	}
	defer windows.CloseHandle(p) //nolint:errcheck // nothing was asked of it
	var code uint32
	return windows.GetExitCodeProcess(p, &code) != nil || code == stillActive
}

// leaving reports whether a file could not be opened because it is being removed.
func leaving(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_DELETE_PENDING)
}

// Held reports whether Lock failed because another process holds it.
func Held(err error) bool {
	return err == windows.ERROR_LOCK_VIOLATION || err == windows.ERROR_IO_PENDING
}
