package disposal

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"

	"widecrate/core/fault"
)

// SyncsAll reports whether Sync writes all files on a file system through.
const SyncsAll = true

// SyncFiles has nothing left to do.
func SyncFiles([]Record) error { return nil }

// Sync writes everything on the file system of a folder through to the disk.
func Sync(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return fault.Writing(dir, err)
	}
	defer f.Close()
	return fault.Writing(dir, unix.Syncfs(int(f.Fd())))
}

// syncFolder writes the names in a folder through to the disk.
func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fault.Writing(path, err)
	}
	defer f.Close()
	if err := f.Sync(); !errors.Is(err, unix.EINVAL) { // not every file system can
		return fault.Writing(path, err)
	}
	return nil
}
