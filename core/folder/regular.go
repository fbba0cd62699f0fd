package folder

import (
	"io/fs"
	"os"

	"widecrate/core/fault"
)

// OpenRegular opens a file to be read, and returns what it is. Pipes, sockets and devices,
// which could wait for ever, are of kind fault.Unreadable and are not read from; other
// errors are those of the system.
func OpenRegular(path string) (*os.File, fs.FileInfo, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = fault.Folder()
	} else if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Unreadable, "it is neither a file nor a folder")
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}
