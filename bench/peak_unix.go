//go:build unix

package main

import (
	"os"
	"runtime"
	"syscall"
)

// peak is the most memory that a finished process held, in bytes.
func peak(p *os.ProcessState) int64 {
	usage := p.SysUsage().(*syscall.Rusage)
	if runtime.GOOS == "darwin" {
		return int64(usage.Maxrss)
	}
	return int64(usage.Maxrss) << 10
}
