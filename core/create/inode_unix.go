//go:build unix

package create

import (
	"io/fs"
	"syscall"
)

// inode tells files apart that may have several names.
type inode struct{ device, number uint64 }

// inodeOf returns the inode of a file, and whether it has several names.
func inodeOf(_ string, info fs.FileInfo) (inode, bool) {
	if info == nil {
		return inode{}, false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return inode{}, false
	}
	return inode{uint64(stat.Dev), stat.Ino}, stat.Nlink > 1
}
