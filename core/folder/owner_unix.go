//go:build unix

package folder

import (
	"io/fs"
	"syscall"
)

// SameOwner reports whether two files or folders belong to the same user.
func SameOwner(a, b fs.FileInfo) bool {
	x, knownX := a.Sys().(*syscall.Stat_t)
	y, knownY := b.Sys().(*syscall.Stat_t)
	return knownX && knownY && x.Uid == y.Uid
}
