package stage

import "golang.org/x/sys/windows"

// Free returns how much room the file system of the root has: bytes, and files;
// -1 where it does not tell.
func (r *Root) Free() (bytes, files int64) {
	path, err := windows.UTF16PtrFromString(r.path)
	if err != nil {
		return -1, -1
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(path, &free, nil, nil); err != nil {
		return -1, -1
	}
	return int64(free), -1
}
