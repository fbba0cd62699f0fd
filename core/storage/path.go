package storage

import (
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widecrate/core/fault"
	"widecrate/core/remote"
)

// FolderOf is the name of the folder that a file lies in, wherever the program
// runs; empty for the root of a file system.
func FolderOf(file string) string {
	if remote.IsAddress(file) {
		return Base(Dir(file))
	}
	if full, err := filepath.Abs(file); err == nil {
		file = full
	}
	return strings.Trim(filepath.Base(filepath.Dir(file)), `/\`)
}

// Base is the last name of a path on disk, or at an address, where it is decoded.
func Base(file string) string {
	if !remote.IsAddress(file) {
		return filepath.Base(file)
	}
	u, err := url.Parse(file)
	if err != nil {
		return path.Base(file)
	}
	return path.Base(u.Path)
}

// Dir is the folder of a path on disk, or at an address.
func Dir(file string) string {
	if !remote.IsAddress(file) {
		return filepath.Dir(file)
	}
	return withPath(file, func(escaped string) string { return escaped[:max(strings.LastIndexByte(escaped, '/'), 0)] })
}

// Join is a path below a folder on disk, or at an address, where names are escaped.
func Join(folder string, names ...string) string {
	if !remote.IsAddress(folder) {
		return filepath.Join(append([]string{folder}, names...)...)
	}
	return withPath(folder, func(at string) string {
		at = strings.TrimSuffix(at, "/")
		for name := range strings.SplitSeq(path.Join(names...), "/") {
			at += "/" + url.PathEscape(name)
		}
		return at
	})
}

// withPath is an address with another path, as it is escaped.
func withPath(address string, change func(escaped string) string) string {
	u, err := url.Parse(address)
	if err != nil {
		return change(address)
	}
	u.RawPath = change(u.EscapedPath())
	u.Path, _ = url.PathUnescape(u.RawPath) // it is escaped by net/url
	return u.String()
}

// Escaped is a name as it is written in the path of a folder on disk, or at an address.
func Escaped(folder, name string) string {
	if remote.IsAddress(folder) {
		return url.PathEscape(name)
	}
	return name
}

// CheckDisk makes sure that a path is one on disk; an address is of kind fault.Usage, and why says what has to be.
func CheckDisk(path, why string) error {
	if !remote.IsAddress(path) {
		return nil
	}
	return fault.At(path, fault.New(fault.Usage, "%s", why))
}

// In is a path as it is from a folder on disk; one that is absolute, or an address, stays what it is.
func In(folder, path string) string {
	if filepath.IsAbs(path) || remote.IsAddress(path) {
		return path
	}
	return filepath.Join(folder, path)
}

// Followed is an absolute path without the links in it, as far as it is there: what is replaced is what they lead to.
func Followed(path string) string {
	path = Absolute(path)
	if to, err := filepath.EvalSymlinks(path); err == nil && !remote.IsAddress(path) {
		return to
	}
	return path
}

// Absolute is a path that stays the same wherever the program is.
func Absolute(path string) string {
	if remote.IsAddress(path) {
		if u, err := url.Parse(path); err == nil { // written as all addresses are
			return u.String()
		}
		return path
	}
	if full, err := filepath.Abs(path); err == nil {
		return full
	}
	return path
}

// Below is a path without the folder that it is in, or the path itself. At an address, it is decoded.
func Below(folder, path string) string {
	if remote.IsAddress(folder) {
		if rel, is := strings.CutPrefix(path, strings.TrimSuffix(folder, "/")+"/"); is {
			if rel, err := url.PathUnescape(rel); err == nil {
				return rel
			}
		}
		return path
	}
	if rel, err := filepath.Rel(folder, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}

// Clean is a path on disk without detours, and an address as it is.
func Clean(file string) string {
	if remote.IsAddress(file) {
		return file
	}
	return filepath.Clean(file)
}

// Inside is an absolute path without the folder that it lies in, with slashes; false: it lies elsewhere, is that
// folder, or makes a detour.
func Inside(folder, file string) (rel string, is bool) {
	if remote.IsAddress(file) {
		return remote.Under(folder, file)
	}
	if !filepath.IsAbs(file) || filepath.Clean(file) != file {
		return "", false
	}
	rel, is = strings.CutPrefix(file, folder)
	if !is || rel == "" || folder == "" || !os.IsPathSeparator(rel[0]) && !os.IsPathSeparator(folder[len(folder)-1]) {
		return "", false
	}
	rel = strings.TrimLeft(rel, string(filepath.Separator))
	return filepath.ToSlash(rel), rel != ""
}
