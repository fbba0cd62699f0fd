package folder

import "golang.org/x/sys/windows"

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
	return windows.MoveFileEx(source, target, 0)
}
