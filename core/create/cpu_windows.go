package create

import (
	"time"

	"golang.org/x/sys/windows"
)

// cpuTime is how long processors have worked for this program.
func cpuTime() time.Duration {
	var created, ended, system, own windows.Filetime
	if windows.GetProcessTimes(windows.CurrentProcess(), &created, &ended, &system, &own) != nil {
		return 0
	}
	hundreds := func(t windows.Filetime) int64 { return int64(t.HighDateTime)<<32 | int64(t.LowDateTime) }
	return time.Duration(100 * (hundreds(system) + hundreds(own)))
}
