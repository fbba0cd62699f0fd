//go:build unix

package create

import (
	"time"

	"golang.org/x/sys/unix"
)

// cpuTime is how long processors have worked for this program.
func cpuTime() time.Duration {
	var used unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &used) != nil {
		return 0
	}
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}
