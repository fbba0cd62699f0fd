package systemtest

import (
	"os"

	"golang.org/x/sys/unix"
)

// InMemory has temporary files of the tests of a package in memory, where there is a folder for that
// with room enough. It is called by TestMain.
func InMemory() {
	const folder, room = "/dev/shm", 2 << 30
	var there unix.Statfs_t
	if unix.Statfs(folder, &there) == nil && int64(there.Bavail)*int64(there.Bsize) >= room && os.Getenv("TMPDIR") == "" {
		os.Setenv("TMPDIR", folder)
	}
}
