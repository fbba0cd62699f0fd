package folder

import (
	"errors"
	"io/fs"
	"os"
)

// ErrForeign is the error of OpenOurs about what somebody else could have put there.
var ErrForeign = errors.New("somebody else could have put it there")

// OpenOurs opens a child to read and write it that only who runs can have put there: a regular file with
// the owner of one that this run has just made there, to which no others may write, under the one name
// that it is opened by. No link is followed, and no pipe is waited for. Anything else is ErrForeign; other
// errors are those of the system. Where files have no owners, as on Windows, every regular file passes.
func (f *Folder) OpenOurs(name string, made fs.FileInfo) (*os.File, error) {
	file, err := f.OpenFile(name, os.O_RDWR|withoutWaiting, 0)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil {
		var there fs.FileInfo
		if there, err = f.Lstat(name); err == nil && (!info.Mode().IsRegular() || !os.SameFile(info, there) || !Private(info, made)) {
			err = ErrForeign
		}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// OpenToRead opens a child to read it; a pipe is not waited for.
func (f *Folder) OpenToRead(name string) (*os.File, error) {
	return f.OpenFile(name, os.O_RDONLY|withoutWaiting, 0)
}

// Private reports whether a file or folder has the owner of one that this run made for itself, and no
// others may write to it, as far as the file system keeps such rights.
func Private(info, made fs.FileInfo) bool {
	const othersWrite = 0o022
	return SameOwner(info, made) && info.Mode().Perm()&othersWrite&^made.Mode().Perm() == 0
}
