package folder

import (
	"io/fs"

	"golang.org/x/sys/windows"
)

// ID tells a file or folder from all others of the system at one moment: the volume and
// the number on it.
type ID struct{ volume, high, low uint32 }

// IDOf returns the ID of what is at a path, and whether it has several names: the listing
// of a folder does not say.
func IDOf(path string, info fs.FileInfo) (id ID, several, known bool) {
	if info == nil || !info.Mode().IsRegular() && !info.IsDir() {
		return id, false, false
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return id, false, false
	}
	const share = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	h, err := windows.CreateFile(name, 0, share, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return id, false, false // reading it says why
	}
	defer windows.CloseHandle(h)
	var of windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(h, &of) != nil {
		return id, false, false
	}
	return ID{of.VolumeSerialNumber, of.FileIndexHigh, of.FileIndexLow}, of.NumberOfLinks > 1 && !info.IsDir(), true
}
