//go:build unix

package stage

import "golang.org/x/sys/unix"

// Free returns how much room the file system of the root has: bytes, and files;
// -1 where it does not tell.
func (r *Root) Free() (bytes, files int64) {
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
