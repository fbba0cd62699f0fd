package main

import (
	"os"
	"syscall"
)

// usageOf is the peak memory of a process that ended, in bytes.
func usageOf(state *os.ProcessState) (int64, bool) {
	usage, ok := state.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, false
	}
	return usage.Maxrss << 10, true
}
