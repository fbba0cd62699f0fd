package stage

import (
	"path/filepath"

	"golang.org/x/sys/windows"
)

// tryHold holds a root until release is called; see Root.hold. It is a file that
// nobody else can open, and that goes when it is closed.
func tryHold(r *Root) (release func(), err error) {
	path, err := windows.UTF16PtrFromString(filepath.Join(r.path, prefix+"gate"))
	if err != nil {
		return nil, err
	}
	const flags = windows.FILE_ATTRIBUTE_HIDDEN | windows.FILE_FLAG_DELETE_ON_CLOSE
	h, err := windows.CreateFile(path, windows.GENERIC_WRITE|windows.DELETE, 0, nil, windows.OPEN_ALWAYS, flags, 0)
	switch err {
	case nil:
		return func() { _ = windows.CloseHandle(h) }, nil
	case windows.ERROR_SHARING_VIOLATION, windows.ERROR_ACCESS_DENIED, windows.ERROR_DELETE_PENDING:
		return nil, errHeld
	}
	return nil, err
}
