package place

import (
	"strings"
	"unicode"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/remote"
)

// longestPath bounds an entry path in bytes; no common system takes more.
const longestPath = 4096

// deepestPath bounds the names in a path. Reaching a file takes the system a
// lookup for each of them: thousands would cost a hostile archive nothing.
const deepestPath = 256

// StagingPrefix starts the names of what lies hidden on a disk until it is
// complete. Nothing from outside may be called so: it would be taken for the
// work of an earlier run.
const StagingPrefix = remote.HiddenPrefix

// shortStaging starts the names that some file systems give what StagingPrefix
// starts, as a second, short one.
const shortStaging = "widecr~"

// IsStaging reports whether a name would be one of unfinished work on any common
// system: some ignore letter case, and some the characters that are not visible.
func IsStaging(name string) bool {
	folded := strings.Map(func(c rune) rune {
		if unicode.Is(unicode.Cf, c) {
			return -1
		}
		return unicode.ToLower(c)
	}, name)
	return strings.HasPrefix(folded, StagingPrefix) || strings.HasPrefix(folded, shortStaging)
}

const hostile = "this archive may be hostile; nothing of it was unpacked"

// Clean turns the stored path of an entry into a relative one that stays below
// its folder: names separated by single slashes, "." for the folder itself. A
// path that leads elsewhere on any common system is of kind fault.Unsafe.
func Clean(stored string) (string, error) {
	if why := notAPath(stored); why != "" {
		return "", unsafePath(why)
	}
	if isClean(stored) {
		return stored, nil
	}
	var names []string
	for name := range strings.SplitSeq(stored, "/") {
		if name == "" || name == "." {
			continue
		}
		if why := notAName(name); why != "" {
			return "", unsafePath(why)
		}
		names = append(names, name)
	}
	if len(names) == 0 {
		return ".", nil
	}
	return strings.Join(names, "/"), nil
}

func unsafePath(why string) error {
	return fault.New(fault.Unsafe, "its path %s", why).Advise(hostile).Suggest(fault.DropEntry)
}

// notAPath says what is wrong with a stored path as a whole; empty: nothing.
func notAPath(stored string) string {
	switch {
	case stored == "":
		return "is empty"
	case len(stored) > longestPath:
		return "is too long"
	case strings.ContainsRune(stored, 0):
		return "holds a NUL byte"
	case stored[0] == '/' || stored[0] == '\\':
		return "is absolute"
	case hasDrive(stored):
		return "starts with a drive letter"
	case strings.Count(stored, "/") > deepestPath:
		return "lies too deep, in more folders than any archive needs"
	}
	return ""
}

// notAName says what is wrong with one name of a path. A backslash separates names
// on some systems and is part of a name on others: what it would lead to counts on
// all of them.
func notAName(name string) string {
	for part := range strings.SplitSeq(name, `\`) {
		if part == ".." {
			return "leads out of its folder with '..'"
		}
		if IsStaging(part) {
			return "has a name that is reserved for unfinished work"
		}
	}
	return ""
}

// Name is Clean for what is to be a single name.
func Name(made string) (string, error) {
	cleaned, err := Clean(made)
	if err == nil && (cleaned == "." || strings.Contains(made, "/")) {
		err = fault.New(fault.Unsafe, "%q is not the name of a file", made)
	}
	return cleaned, err
}

// isClean recognises the paths that nothing has to be done about: nearly all.
func isClean(path string) bool {
	for i := range len(path) {
		switch c := path[i]; {
		case c >= 0x80, c == '\\', c == '~':
			return false
		case c == '/' && (i+1 == len(path) || path[i+1] == '/' || path[i+1] == '.'):
			return false
		}
	}
	return path[0] != '.'
}

func hasDrive(path string) bool {
	return len(path) >= 2 && path[1] == ':' && (len(path) == 2 || path[2] == '/' || path[2] == '\\') &&
		('a' <= path[0]|0x20 && path[0]|0x20 <= 'z')
}

// Rebase is the target of a symbolic link at the cleaned path at, an absolute one as
// below the archive's folder: in the image of a system that is what it means there.
func Rebase(at, target string) string {
	if !strings.HasPrefix(target, "/") {
		return target
	}
	below := strings.TrimLeft(target, "/")
	if up := strings.Repeat("../", strings.Count(at, "/")); up+below != "" {
		return up + below
	}
	return "."
}

// Check makes sure that an entry, a symbolic link to link, would be unpacked below its folder:
// anything else is of kind fault.Unsafe.
func Check(e *archive.Entry, link string) error {
	at, err := Clean(e.Path)
	switch {
	case err != nil:
		return err
	case e.Kind == archive.Symlink:
		return CheckLink(at, link)
	case e.Kind == archive.Hardlink:
		_, err = Clean(e.Link)
	}
	return err
}

// CheckLink makes sure that a symbolic link at the cleaned path at leads to
// something below the same root. ".." may only stand at the start of a target:
// after a name it would depend on whether that name is a link itself.
func CheckLink(at, target string) error {
	unsafe := func(why string) error {
		return fault.New(fault.Unsafe, "it is a link to %q, which %s", target, why).Advise(hostile).Suggest(fault.SkipLinks)
	}
	slashed := strings.ReplaceAll(target, `\`, "/")
	switch {
	case target == "":
		return unsafe("is empty")
	case strings.ContainsRune(target, 0):
		return unsafe("holds a NUL byte")
	case slashed[0] == '/' || hasDrive(slashed):
		return fault.New(fault.Unsafe, "it is a link to %q, which is absolute", target).Advise(hostile).Suggest(fault.SkipOrRebaseLinks)
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
			if IsStaging(name) {
				return unsafe("is reserved for unfinished work")
			}
			named = true
		}
	}
	return nil
}
