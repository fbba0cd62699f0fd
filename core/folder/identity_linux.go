package folder

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// Identity tells a folder from any other that may ever have its name: its number
// on the file system and, where that keeps it, when it was made, to the
// nanosecond.
func (h Handle) Identity() (string, error) {
	var s unix.Statx_t
	err := unix.Statx(h.fd, "", unix.AT_EMPTY_PATH, unix.STATX_INO|unix.STATX_BTIME, &s)
	return fmt.Sprintf("%d-%d.%09d", s.Ino, s.Btime.Sec, s.Btime.Nsec), err
}
