//go:build unix

package stage

import "golang.org/x/sys/unix"

// free asks the system for Root.Free.
func (r *Root) free() (bytes, files int64) {
	var s unix.Statfs_t
	if err := unix.Statfs(r.path, &s); err != nil {
		return -1, -1
	}
	files = -1
	if s.Files > 0 {
		files = int64(s.Ffree)
	}
	return int64(s.Bavail) * int64(s.Bsize), files
}
