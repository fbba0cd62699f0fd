//go:build unix

package disposal

import (
	"golang.org/x/sys/unix"

	"widecrate/core/fault"
)

// Removable makes sure that files in a folder can be removed.
func Removable(dir string) error {
	return fault.Writing(dir, unix.Access(dir, unix.W_OK|unix.X_OK))
}
