//go:build !linux

package disposal

import (
	"os"
	"runtime"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// SyncsAll reports whether Sync writes all files on a file system through.
const SyncsAll = false

// Sync writes what is known of a folder through to the disk. The files in it are for
// SyncFiles.
func Sync(dir string) error {
	if runtime.GOOS == "windows" { // only what may be written can be synced there
		return nil
	}
	return fault.Writing(dir, syncFile(dir, os.O_RDONLY))
}

// SyncFiles writes files through to the disk.
func SyncFiles(files []Record) error {
	for _, f := range files {
		path := f.Path
		lock := folder.Unlock(path)
		err := syncFile(path, os.O_RDWR)
		lock()
		if err != nil {
			return fault.Writing(path, err)
		}
	}
	return nil
}

func syncFile(path string, flags int) error {
	return folder.Patient(func() error {
		f, err := os.OpenFile(path, flags, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		return f.Sync()
	})
}

// syncFolder writes the names in a folder through to the disk.
func syncFolder(path string) error { return Sync(path) }
