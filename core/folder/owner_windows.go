package folder

import "io/fs"

// SameOwner reports whether two files or folders belong to the same user: here, that is not known.
func SameOwner(_, _ fs.FileInfo) bool { return true }

// OthersWrite is not found out: rights are kept in lists there.
func OthersWrite(fs.FileInfo) bool { return false }
