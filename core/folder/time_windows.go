package folder

import (
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"
)

// SetTime sets the time of a file or folder below base. What lies before 1601, where
// the system's time begins, becomes its first moment.
func SetTime(base *os.Root, at string, t time.Time) error {
	if 1678 < t.Year() && t.Year() < 2262 { // what package os can count in nanoseconds
		return base.Chtimes(at, t, t)
	}
	path, err := windows.UTF16PtrFromString(filepath.Join(base.Name(), at))
	if err != nil {
		return err
	}
	h, err := windows.CreateFile(path, windows.FILE_WRITE_ATTRIBUTES, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil,
		windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OPEN_REPARSE_POINT, 0)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	set := filetime(t)
	return windows.SetFileTime(h, nil, nil, &set)
}

// filetime counts in tenths of microseconds since 1601 (FILETIME).
func filetime(t time.Time) windows.Filetime {
	const begins = -11_644_473_600 // in Unix time
	ticks := max((t.Unix()-begins)*1e7+int64(t.Nanosecond()/100), 1)
	return windows.Filetime{LowDateTime: uint32(ticks), HighDateTime: uint32(ticks >> 32)}
}
