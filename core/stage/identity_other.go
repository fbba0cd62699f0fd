//go:build unix && !linux

package stage

import (
	"fmt"
	"syscall"
)

// identity tells a folder from any other that may ever have its name: its number
// on the file system.
func (h handle) identity() (string, error) {
	info, err := h.root.Stat(".")
	if err != nil {
		return "", err
	}
	return fmt.Sprint(info.Sys().(*syscall.Stat_t).Ino), nil
}
