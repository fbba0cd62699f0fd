package stage

import (
	"os"

	"golang.org/x/sys/windows"
)

// lock takes the lock of a file, or fails at once if another run holds it. It
// ends with the process. The locked byte is far behind the content, which
// others still have to read.
func lock(f *os.File) error {
	const flags = windows.LOCKFILE_EXCLUSIVE_LOCK | windows.LOCKFILE_FAIL_IMMEDIATELY
	return windows.LockFileEx(windows.Handle(f.Fd()), flags, 0, 1, 0, &windows.Overlapped{OffsetHigh: 1})
}
