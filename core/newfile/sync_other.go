//go:build !linux

package newfile

import (
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"widecrate/core/fault"
)

// Sync writes everything below a folder through to the disk.
func Sync(dir string) error {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() && (!d.IsDir() || runtime.GOOS == "windows") {
			return err
		}
		flags := os.O_RDONLY
		if runtime.GOOS == "windows" { // where only what may be written can be synced
			flags = os.O_RDWR
		}
		f, err := os.OpenFile(path, flags, 0)
		if os.IsPermission(err) && runtime.GOOS == "windows" {
			return nil // read-only: written through when it was closed
		}
		if err != nil {
			return err
		}
		defer f.Close()
		return f.Sync()
	})
	return fault.Writing(dir, err)
}
