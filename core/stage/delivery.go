package stage

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// An Item is something that an archive brings: an entry, its path replaced by
// the cleaned one below the unit's folder. A link has its target.
type Item struct {
	archive.Entry
	Name string // the path that the archive gives it, for people
}

// An Action is what became, or would become, of an item.
type Action uint8

// The actions.
const (
	Added Action = iota
	Same         // the same was there already, byte for byte
	Skipped
	Replaced
	Lost     // the data could not be had: see Unit.Lose
	clashing // only within this package: it makes the unit refused
)

var actionNames = [...]string{"added", "same", "skipped", "replaced", "lost", "clashing"}

func (a Action) String() string { return actionNames[a] }

// MarshalText gives the name, in JSON too.
func (a Action) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// A Result is what became, or would become, of an item, and where.
type Result struct {
	Path   string // below the root
	Action Action
	Mode   bool   // what was there already has other permissions, and keeps them
	Kept   string // where what was replaced is kept; empty: nowhere
}

// Rules are how a unit goes into its folder.
type Rules struct {
	Clash Clash
	Fresh bool // the unit's folder takes the place of the one that is there

	// Keep is the folder in which what is replaced is kept, at its path below the root; empty: it
	// goes.
	Keep string

	Needs *disposal.Needs // what nothing may replace; nil: nothing
}

// site is a destination root as it can be looked at.
type site struct {
	path  string
	dest  *os.Root       // nil: there is no such folder yet
	home  *folder.Folder // an open handle on it; nil: there is none
	folds bool           // the file system takes names for equal that differ in letter case
}

// full is the path of something below the root, for people.
func (s *site) full(rel string) string { return filepath.Join(s.path, filepath.FromSlash(rel)) }

// fold returns what two paths must share to be the same on this file system.
func (s *site) fold(path string) string {
	if s.folds {
		return strings.ToLower(path)
	}
	return path
}

// delivery is what one archive brings to a folder below a root, and what becomes of it.
type delivery struct {
	site   *site
	folder string // below the root; "." for the root itself
	items  []Item
	rules  Rules
	result []Result
	taken  map[string]bool // paths of items, where others get numbers
	gone   []string        // of the folder that is swapped for this one
}

// newDelivery makes sure that items do not contradict each other, and that the system can
// hold their paths. They are distinct if no two have the same path.
func newDelivery(s *site, folder string, items []Item, rules Rules) (d *delivery, distinct bool, err error) {
	d = &delivery{site: s, folder: path.Clean(folder), items: items, rules: rules, result: make([]Result, len(items))}
	if err := d.holds(); err != nil {
		return nil, false, err
	}
	for i := range items {
		d.result[i].Path = below(d.folder, items[i].Path)
	}
	distinct, err = d.checkKinds()
	return d, distinct, err
}

// Consistent makes sure that items do not contradict each other, and that the system can
// hold their paths; see Root.Begin. It looks at no disk.
func Consistent(items []Item) error {
	_, _, err := newDelivery(&site{}, ".", items, Rules{})
	return err
}

// holds makes sure that the system can hold all paths.
func (d *delivery) holds() error {
	if err := place.Holds(d.folder); err != nil {
		return fault.At(d.site.path, err)
	}
	for i := range d.items {
		if err := place.Holds(d.items[i].Path); err != nil {
			return fault.At(d.items[i].Name, err)
		}
	}
	return nil
}

// checkKinds refuses an item that is a folder for one path and something else
// for another, and finds out whether all paths are distinct.
func (d *delivery) checkKinds() (distinct bool, err error) {
	byPath := make(map[string]int, len(d.items))
	distinct = true
	for i := range d.items {
		key := d.site.fold(d.items[i].Path)
		if first, taken := byPath[key]; taken {
			a, b := d.items[first].Kind, d.items[i].Kind
			if (a == archive.Folder) != (b == archive.Folder) {
				return false, d.contradiction(first, i)
			}
			distinct = distinct && a == archive.Folder
			continue
		}
		byPath[key] = i
	}
	for i := range d.items {
		for dir := path.Dir(d.items[i].Path); dir != "."; dir = path.Dir(dir) {
			if above, taken := byPath[d.site.fold(dir)]; taken && d.items[above].Kind != archive.Folder {
				return false, d.contradiction(above, i)
			}
		}
	}
	if d.rules.Clash == Number {
		d.taken = make(map[string]bool, len(byPath))
		for key := range byPath {
			d.taken[key] = true
		}
	}
	return distinct, nil
}

func (d *delivery) contradiction(a, b int) error {
	return fault.New(fault.Refused, "entry %q would have to be a folder for entry %q", d.items[a].Name, d.items[b].Name).
		Suggest(fault.DropEntry)
}

// Wanted reports whether the data of an item is needed.
func (d *delivery) Wanted(i int) bool {
	return d.items[i].Kind == archive.File && d.result[i].Action != Skipped
}

// within is the path that an item gets below the unit's folder.
func (d *delivery) within(i int) string {
	if d.folder == "." {
		return d.result[i].Path
	}
	return strings.TrimPrefix(d.result[i].Path, d.folder+"/")
}

// Gone lists what was in the folder that was swapped for a fresh one, or would be,
// and is not in that: absolute paths. It is nil without such a rule.
func (d *delivery) Gone() []string { return d.gone }

// findGone finds that before the folder is swapped.
func (d *delivery) findGone() error {
	if !d.rules.Fresh || d.folder == "." || d.site.dest == nil {
		return nil
	}
	stays := map[string]bool{}
	for i := range d.items {
		if a := d.result[i].Action; a == Added || a == Replaced || a == Same {
			for at := d.within(i); at != "."; at = path.Dir(at) {
				stays[d.site.fold(at)] = true
			}
		}
	}
	old, err := d.site.dest.OpenRoot(d.folder)
	if err != nil {
		return ignoreMissing(err)
	}
	defer old.Close()
	return fs.WalkDir(old.FS(), ".", func(at string, child fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) { // another run has just cleared it away
			return nil
		}
		if err == nil && child.IsDir() && strings.HasPrefix(child.Name(), prefix) && isAlive(old, at) {
			return fault.New(fault.Refused, "another run is at work in it").Advise("run it again when that has ended")
		}
		if err == nil && !child.IsDir() && !stays[d.site.fold(at)] {
			d.gone = append(d.gone, d.site.full(path.Join(d.folder, at)))
		}
		return err
	})
}
