package folder

import (
	"errors"
	"time"

	"golang.org/x/sys/windows"
)

// patient tries again for a moment what fails because another program has a file open:
// those that look for viruses, or index, do so right after it was written.
func patient(do func() error) error {
	for pause := time.Millisecond; ; pause *= 2 {
		err := do()
		held := errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_ACCESS_DENIED)
		if !held || pause > 256*time.Millisecond {
			return err
		}
		time.Sleep(pause)
	}
}

// makeReplaceable takes the mark off a file that it is only to be read, which keeps
// others from taking its place here, and nowhere else.
func makeReplaceable(path string) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return
	}
	attributes, err := windows.GetFileAttributes(name)
	if err == nil && attributes&windows.FILE_ATTRIBUTE_READONLY != 0 {
		_ = windows.SetFileAttributes(name, attributes&^windows.FILE_ATTRIBUTE_READONLY) // the move says what is wrong
	}
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
	return patient(func() error { return windows.MoveFileEx(source, target, 0) })
}
