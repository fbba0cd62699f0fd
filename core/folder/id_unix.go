//go:build unix

package folder

import (
	"io/fs"
	"syscall"
)

// ID tells a file or folder from all others of the system at one moment: the device and
// the inode.
type ID struct{ device, inode uint64 }

// IDOf returns the ID of what is at a path, and whether it has several names.
func IDOf(_ string, info fs.FileInfo) (id ID, several, known bool) {
	if info == nil {
		return id, false, false
	}
	stat, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return id, false, false
	}
	return ID{uint64(stat.Dev), stat.Ino}, stat.Nlink > 1 && !info.IsDir(), true
}
