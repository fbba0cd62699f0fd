package folder

import (
	"errors"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/windows"
)

// Patient tries again for a moment what fails because another program has a file open:
// those that look for viruses, or index, do so right after it was written.
func Patient(do func() error) error {
	for pause := time.Millisecond; ; pause *= 2 {
		err := do()
		held := errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_ACCESS_DENIED)
		if !held || pause > 256*time.Millisecond {
			return err
		}
		time.Sleep(pause)
	}
}

// Movable waits for others to close a file that keep it from being moved, and is an
// error where they do not.
func (h Handle) Movable(name string) error {
	path, err := windows.UTF16PtrFromString(h.full(name))
	if err != nil {
		return err
	}
	return Patient(func() error {
		f, err := windows.CreateFile(path, windows.DELETE, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil,
			windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OPEN_REPARSE_POINT, 0)
		if errors.Is(err, windows.ERROR_FILE_NOT_FOUND) {
			return nil // the move will report it
		}
		if err != nil {
			return err
		}
		return windows.CloseHandle(f)
	})
}

// Unlock takes the mark off a file that it is only to be read, which keeps it from
// being replaced, removed and synced here, and nowhere else; lock puts it back.
func Unlock(path string) (lock func()) {
	set := func(attributes uint32) {
		if name, err := windows.UTF16PtrFromString(path); err == nil {
			_ = windows.SetFileAttributes(name, attributes) // what is done with the file says what is wrong
		}
	}
	info, err := os.Lstat(path)
	if err != nil {
		return func() {}
	}
	attributes := info.Sys().(*syscall.Win32FileAttributeData).FileAttributes
	if attributes&windows.FILE_ATTRIBUTE_READONLY == 0 {
		return func() {}
	}
	set(attributes &^ windows.FILE_ATTRIBUTE_READONLY)
	return func() { set(attributes) }
}

// moveExclusive moves a file or folder to a path where nothing is: one that is taken
// is an error that is fs.ErrExist. It is one call of the system.
func moveExclusive(from, to string) error {
	source, err := windows.UTF16PtrFromString(from)
	if err != nil {
		return err
	}
	target, err := windows.UTF16PtrFromString(to)
	if err != nil {
		return err
	}
	return Patient(func() error { return windows.MoveFileEx(source, target, 0) })
}
