// Package place decides where entries go: which folder an archive gets, and
// which path below it an entry has. It touches no disk; core/stage does.
//
// Every name from outside that becomes a path on a disk goes through Clean, or
// through Name, which is Clean for a single name:
//
//   - paths of entries, and what links are second names of: Paths, Clean
//   - targets of symbolic links: CheckLink
//   - own folders, after the names of archives on a disk, inside others, of sets
//     and of series, and by template: Target, Inner
//   - single top folders that become own folders: TopFolder
//   - new last names by template, with what they take from entries: Paths
//   - archives that are converted, after the names of the old ones: Name
//   - the paths in an archive that edit and create are given: Clean
//
// Names in lists of sums and of parts are only compared with those that a folder
// has, and never become a path.
package place

import (
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/maruel/natural"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/storage"
)

// Layout is how the archives of a batch share their destination.
type Layout uint8

// The layouts.
const (
	Own    Layout = iota // each archive in a folder named after it
	Shared               // all archives in the root, merged in order
	Auto                 // as Own, but a single top folder in the archive is the own folder
)

// A Placement says where the entries of every archive of a batch go.
type Placement struct {
	Into    string // destination root; empty: the folder that each archive lies in
	Layout  Layout
	OwnName *Template // of the own folder; nil: the archive's stem
	Flatten bool      // drop the folders inside
	Peel    int       // drop this many folders of each path
	Rename  *Template // of the last name of files and links; nil: as it is
	Names   Names     // of own folders; those of entries are spelt by the plan
	Today   time.Time
}

// A Counter is what Rename counts by. Its zero value is ready; it may be used by several
// goroutines.
type Counter struct {
	mu    sync.Mutex
	files map[string]int // so far, by destination folder
}

// next is the number of one more file in a folder.
func (c *Counter) next(folder string) int {
	if c.files == nil {
		c.files = map[string]int{}
	}
	c.files[folder]++
	return c.files[folder]
}

// Counts reports whether new names depend on the order of the archives.
func (p *Placement) Counts() bool { return p.Rename != nil && p.Rename.Counts() }

// A Target is the destination of one archive.
type Target struct {
	Root   string // destination root
	Folder string // the archive's folder below Root, separated by slashes; empty: Root itself
}

// Path is where the entries of the archive go.
func (t Target) Path() string { return filepath.Join(t.Root, filepath.FromSlash(t.Folder)) }

// Archive is what a target depends on.
type Archive struct {
	Path string // of the archive, or of the outermost one for one inside another
	Into string // a destination root of its own; empty: that of the placement
	Sub  string // folders below the root that own folders mirror, separated by slashes
	Name string // last name, the own folder is named after
}

// Target returns the destination of an archive. An own folder that would lie
// outside the root, be the root itself, or pass for unfinished work is of kind
// fault.Unsafe, and of kind fault.Usage where the template makes one of any name.
func (p *Placement) Target(a Archive) (Target, error) {
	t := Target{Root: a.Into}
	if t.Root == "" {
		t.Root = p.Into
	}
	sub := a.Sub
	if t.Root == "" {
		t.Root, sub = filepath.Dir(a.Path), ""
	}
	if p.Layout == Shared {
		return t, nil
	}
	own := Stem(a.Name)
	if p.OwnName != nil {
		if cleaned, err := Clean(p.OwnName.Expand(Values{Name: "x", Archive: "x", From: "x"})); err != nil || cleaned == "." {
			return t, fault.New(fault.Usage, "the template %q makes no name of a folder", p.OwnName.text)
		}
		own = p.OwnName.Expand(Values{Name: a.Name, Archive: own, From: storage.FolderOf(a.Path), Today: p.Today})
	}
	cleaned, err := Clean(own)
	if err != nil || cleaned == "." {
		return t, fault.New(fault.Unsafe, "its own folder would be called %q, which is not safe", own).Suggest(fault.NameOwnFolder)
	}
	t.Folder = p.Names.Spell(path.Join(sub, cleaned))
	return t, nil
}

// Inner returns the destination of an archive inside another: t is that of the
// outer one, at the path that the inner one gets below it, Peeled if none.
func (p *Placement) Inner(t Target, at, name string) (Target, error) {
	if p.Layout == Shared {
		return t, nil
	}
	dir := path.Join(t.Folder, path.Dir(at))
	inner, err := p.Target(Archive{Path: filepath.Join(t.Root, filepath.FromSlash(dir), name), Into: t.Root, Name: name})
	inner.Folder = path.Join(dir, inner.Folder)
	return inner, err
}

// Peeled is the answer of Paths for an entry that has no path left.
const Peeled = ""

// A Naming is what new names in an archive depend on.
type Naming struct {
	Archive string           // the name without its extension
	From    string           // the folder that the archive lies in
	Folder  string           // absolute destination, which files are counted by
	Counter *Counter         // of the run; nil: nothing is renamed
	Aside   func(i int) bool // entries that get no file, and do not count; nil: there are none
}

// Paths returns, for the entries of one archive, the paths that they get below
// the archive's folder, in the same order; Peeled for those without one.
// Stored paths that are unsafe are of kind fault.Unsafe.
//
// Where Rename counts, calls with a counter must come in the order of the archives; without
// Rename there need be none.
func (p *Placement) Paths(entries []*archive.Entry, n Naming) ([]string, error) {
	cleaned, paths := make([]string, len(entries)), make([]string, len(entries))
	for i, e := range entries {
		var err error
		if cleaned[i], err = Clean(e.Path); err != nil {
			return nil, fault.At(e.Path, err)
		}
		paths[i] = p.shape(cleaned[i], e.Kind)
	}
	if p.Rename == nil {
		return paths, nil
	}
	return paths, p.rename(entries, cleaned, paths, n)
}

// shape drops the folders that are not wanted.
func (p *Placement) shape(cleaned string, kind archive.Kind) string {
	if cleaned == "." {
		return Peeled
	}
	rest := cleaned
	for range p.Peel {
		_, below, found := strings.Cut(rest, "/")
		if !found {
			return Peeled
		}
		rest = below
	}
	if p.Flatten {
		if kind == archive.Folder {
			return Peeled
		}
		return path.Base(rest)
	}
	return rest
}

// rename gives files and links new last names. The counter goes by destination
// folder, in natural order of the paths.
func (p *Placement) rename(entries []*archive.Entry, cleaned, paths []string, n Naming) error {
	order := make([]int, 0, len(entries))
	for i, e := range entries {
		if paths[i] != Peeled && e.Kind != archive.Folder && (n.Aside == nil || !n.Aside(i)) {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return natural.Compare(cleaned[a], cleaned[b]) })
	n.Counter.mu.Lock()
	defer n.Counter.mu.Unlock()
	for _, i := range order {
		dir, name := path.Split(paths[i])
		above := path.Base(path.Dir(cleaned[i]))
		if above == "." {
			above = n.Archive
		}
		made := p.Rename.Expand(Values{Name: name, Archive: n.Archive, From: n.From, Folder: above, Number: n.Counter.next(n.Folder + "/" + dir),
			Modified: entries[i].Modified, Today: p.Today})
		if strings.Contains(made, "/") {
			return fault.At(entries[i].Path, fault.New(fault.Usage, "it would be renamed to %q, which is no file name", made))
		}
		renamed, err := Name(made)
		if err != nil {
			return fault.At(entries[i].Path, fault.New(fault.Unsafe, "it would be renamed to %q, which is not safe", made))
		}
		paths[i] = dir + renamed
	}
	return nil
}

// TopFolder returns the one folder at the top that all entries of an archive are
// in, those aside that ignore says; empty if there is none.
func (p *Placement) TopFolder(entries []archive.Entry, ignore func(path string) bool) string {
	top := ""
	for i := range entries {
		cleaned, err := Clean(entries[i].Path)
		if err != nil || ignore(entries[i].Path) {
			continue
		}
		at := p.shape(cleaned, entries[i].Kind)
		if at == Peeled {
			continue
		}
		first, _, below := strings.Cut(at, "/")
		if !below && entries[i].Kind != archive.Folder || top != "" && first != top {
			return ""
		}
		top = first
	}
	return top
}
