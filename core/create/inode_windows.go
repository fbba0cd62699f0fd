package create

import (
	"io/fs"

	"golang.org/x/sys/windows"
)

// inode tells files apart that may have several names.
type inode struct{ volume, high, low uint32 }

// inodeOf returns the inode of a file, and whether it has several names: the listing of
// a folder does not say.
func inodeOf(path string, info fs.FileInfo) (inode, bool) {
	if info == nil || !info.Mode().IsRegular() {
		return inode{}, false
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return inode{}, false
	}
	h, err := windows.CreateFile(name, 0, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING, 0, 0)
	if err != nil {
		return inode{}, false // reading it says why
	}
	defer windows.CloseHandle(h)
	var of windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(h, &of) != nil {
		return inode{}, false
	}
	return inode{of.VolumeSerialNumber, of.FileIndexHigh, of.FileIndexLow}, of.NumberOfLinks > 1
}
