//go:build unix

package folder

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// SameOwner reports whether two files or folders belong to the same user.
func SameOwner(a, b fs.FileInfo) bool {
	x, knownX := a.Sys().(*syscall.Stat_t)
	y, knownY := b.Sys().(*syscall.Stat_t)
	return knownX && knownY && x.Uid == y.Uid
}

// OthersWrite reports whether somebody else than who runs can write to a file: it belongs to another user, or the rights
// of others, or of a group that is not the owner's own, let them.
func OthersWrite(info fs.FileInfo) bool {
	const group, all = 0o020, 0o002
	st, known := info.Sys().(*syscall.Stat_t)
	return !known || int(st.Uid) != os.Geteuid() || info.Mode()&all != 0 || info.Mode()&group != 0 && st.Gid != st.Uid
}

// KeepOwner gives a new file the owner and the group of the one that it is to replace, as far as the system lets who runs.
func KeepOwner(f *os.File, was fs.FileInfo) error {
	st, known := was.Sys().(*syscall.Stat_t)
	if !known {
		return nil
	}
	err := f.Chown(int(st.Uid), int(st.Gid))
	if errors.Is(err, fs.ErrPermission) {
		err = f.Chown(-1, int(st.Gid))
	}
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, errors.ErrUnsupported) {
		return nil
	}
	return err
}
