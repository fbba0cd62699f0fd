package stage

import "golang.org/x/sys/windows"

// free asks the system for Root.Free.
func (r *Root) free() (bytes, files int64) {
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
