//go:build unix && !linux

package folder

import (
	"fmt"
	"syscall"
)

// Identity tells a folder from any other that may ever have its name: its number
// on the file system.
func (h Handle) Identity() (string, error) {
	info, err := h.root.Stat(".")
	if err != nil {
		return "", err
	}
	return fmt.Sprint(info.Sys().(*syscall.Stat_t).Ino), nil
}
