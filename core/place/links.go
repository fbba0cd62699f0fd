package place

import (
	"path"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Hardlinks finds what hard links are second names of, for every command that reads them:
// the last entry before the link that has the path, through other hard links.
type Hardlinks struct {
	byPath  map[string]int // hard links stand for what they are second names of
	indexed int            // entries that are in byPath
}

// First is the entry that the i-th, a hard link, is a second name of: a file, a symbolic
// link, or something special. It is asked with the same entries, of which there may be
// more each time, and quickly only with rising i. A link to what does not come before it,
// or to a folder, is of kind fault.Damaged; one that leads out of the archive of kind
// fault.Unsafe.
func (h *Hardlinks) First(entries []archive.Entry, i int) (first int, err error) {
	if h.byPath == nil || h.indexed > i {
		h.byPath, h.indexed = map[string]int{}, 0
	}
	for ; h.indexed < i; h.indexed++ {
		h.index(&entries[h.indexed])
	}
	target, err := Clean(entries[i].Link)
	if err != nil {
		return 0, fault.New(fault.Unsafe, "it is a second name of %q: %w", entries[i].Link, err)
	}
	first, found := h.byPath[target]
	switch {
	case !found:
		return 0, fault.New(fault.Damaged, "it is a second name of %q, which does not come before it", entries[i].Link)
	case entries[first].Kind == archive.Folder:
		return 0, fault.New(fault.Damaged, "it is a second name of %q, which is a folder", entries[i].Link)
	}
	return first, nil
}

// index takes the next entry in.
func (h *Hardlinks) index(e *archive.Entry) {
	cleaned, err := Clean(e.Path)
	if err != nil {
		return
	}
	h.byPath[cleaned] = h.indexed
	if e.Kind != archive.Hardlink {
		return
	}
	delete(h.byPath, cleaned)
	if target, err := Clean(e.Link); err == nil {
		if first, found := h.byPath[target]; found {
			h.byPath[cleaned] = first
		}
	}
}

// Relink is the target of a symbolic link that moves from one cleaned path to another, when
// what the link leads to moves as well: to says where a path of the archive goes; empty: that is not
// known. A target that still leads there, or out of the archive, stays as it is.
func Relink(from, at, target string, to func(path string) string) string {
	if target == "" || strings.HasPrefix(target, "/") {
		return target
	}
	old := path.Join(path.Dir(from), target)
	if old == "." || old == ".." || strings.HasPrefix(old, "../") {
		return target
	}
	goes := to(old)
	if goes == "" || path.Join(path.Dir(at), target) == goes {
		return target
	}
	return relative(path.Dir(at), goes)
}

// relative is how a path is reached from a folder, both clean and below the same root.
func relative(folder, to string) string {
	var names []string
	if folder != "." {
		names = strings.Split(folder, "/")
	}
	rest := strings.Split(to, "/")
	for len(names) > 0 && len(rest) > 1 && names[0] == rest[0] {
		names, rest = names[1:], rest[1:]
	}
	return strings.Repeat("../", len(names)) + strings.Join(rest, "/")
}
