// Package place decides where entries go: which folder an archive gets, and
// which path below it an entry has. It touches no disk; core/stage does.
package place

import (
	"path/filepath"
	"runtime"
	"strings"

	"widecrate/core/fault"
	"widecrate/core/format"
)

// Layout is how the archives of a batch share their destination.
type Layout uint8

// The layouts.
const (
	Own    Layout = iota // each archive in a folder named after it
	Shared               // all archives in the root, merged in order
)

// A Placement says where the entries of every archive of a batch go.
type Placement struct {
	Into   string // destination root; empty: the folder that each archive lies in
	Layout Layout
}

// A Target is the destination of one archive.
type Target struct {
	Root   string // destination root
	Folder string // the archive's folder below Root; empty: Root itself
}

// Path is where the entries of the archive go.
func (t Target) Path() string { return filepath.Join(t.Root, t.Folder) }

// Target returns the destination of the archive at the given path.
func (p Placement) Target(archive string) Target {
	t := Target{Root: p.Into}
	if t.Root == "" {
		t.Root = filepath.Dir(archive)
	}
	if p.Layout == Own {
		t.Folder = format.Stem(filepath.Base(archive))
	}
	return t
}

// longestPath bounds an entry path in bytes; no common system takes more.
const longestPath = 4096

// Clean turns the stored path of an entry into a relative one that stays below
// its folder: names separated by single slashes, "." for the folder itself. A
// path that leads elsewhere on any common system is of kind fault.Unsafe.
func Clean(stored string) (string, error) {
	unsafe := func(why string) (string, error) {
		return "", fault.New(fault.Unsafe, "its path %s", why).
			Advise("this archive may be hostile; nothing of it was unpacked. To take the rest, leave this entry out with --drop")
	}
	switch {
	case stored == "":
		return unsafe("is empty")
	case len(stored) > longestPath:
		return unsafe("is too long")
	case strings.ContainsRune(stored, 0):
		return unsafe("holds a NUL byte")
	case stored[0] == '/' || stored[0] == '\\':
		return unsafe("is absolute")
	case hasDrive(stored):
		return unsafe("starts with a drive letter")
	}
	var names []string
	for name := range strings.SplitSeq(stored, "/") {
		switch name {
		case "", ".":
			continue
		}
		// A backslash separates names on some systems and is part of a name on
		// others: what it would lead to counts on all of them.
		for part := range strings.SplitSeq(name, `\`) {
			if part == ".." {
				return unsafe("leads out of its folder with '..'")
			}
		}
		names = append(names, name)
	}
	if len(names) == 0 {
		return ".", nil
	}
	cleaned := strings.Join(names, "/")
	if runtime.GOOS == "windows" && !filepath.IsLocal(filepath.FromSlash(cleaned)) {
		return unsafe("is one that this system gives a meaning of its own")
	}
	return cleaned, nil
}

func hasDrive(path string) bool {
	return len(path) >= 2 && path[1] == ':' && (len(path) == 2 || path[2] == '/' || path[2] == '\\') &&
		('a' <= path[0]|0x20 && path[0]|0x20 <= 'z')
}

// CheckLink makes sure that a symbolic link at the cleaned path at leads to
// something below the same root. ".." may only stand at the start of a target:
// behind a name it would depend on whether that name is a link itself.
func CheckLink(at, target string) error {
	unsafe := func(why string) error {
		return fault.New(fault.Unsafe, "it is a link to %q, which %s", target, why).
			Advise("this archive may be hostile; nothing of it was unpacked. To take the rest, leave this entry out with --drop")
	}
	slashed := strings.ReplaceAll(target, `\`, "/")
	switch {
	case target == "":
		return unsafe("is empty")
	case strings.ContainsRune(target, 0):
		return unsafe("holds a NUL byte")
	case slashed[0] == '/' || hasDrive(slashed):
		return unsafe("is absolute")
	}
	depth, named := strings.Count(at, "/"), false
	for name := range strings.SplitSeq(slashed, "/") {
		switch name {
		case "", ".":
		case "..":
			if depth--; depth < 0 {
				return unsafe("lies outside the archive's folder")
			}
			if named {
				return unsafe("goes up again after going down")
			}
		default:
			named = true
		}
	}
	return nil
}
