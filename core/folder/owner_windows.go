package folder

import (
	"io/fs"
	"os"
)

// SameOwner reports whether two files or folders belong to the same user: here, that is not known.
func SameOwner(_, _ fs.FileInfo) bool { return true }

// OthersWrite is not found out: rights are kept in lists there.
func OthersWrite(fs.FileInfo) bool { return false }

// KeepOwner has nothing to do: a folder says there whom its files belong to.
func KeepOwner(*os.File, fs.FileInfo) error { return nil }
