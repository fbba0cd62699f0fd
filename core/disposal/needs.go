package disposal

import (
	"os"
	"sync"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// Needed is a file that a run reads or writes, for people: a source, a part, a list, a receipt, the job file.
type Needed struct{ Path, What string }

// Needs are the files that a run needs or has: nothing that it delivers may take their place. nil needs nothing.
type Needs struct {
	Named   []Needed                 // those that options name: few, and some are not there yet
	Sources func(yield func(Needed)) // found once something is replaced; nil: none
	Folders []Needed                 // in which nothing may be replaced

	Sites storage.Sites // where all of them are

	naming, finding sync.Once
	named, byPath   map[string]string // what lies at a path, by its key
	byID            map[folder.ID][]needed
	far             map[string][]Needed // at servers, by their last names
}

// needed is one that is there.
type needed struct {
	blob.File
	what string
}

// name takes those in that options name.
func (n *Needs) name() {
	n.named = map[string]string{}
	for _, f := range n.Named {
		n.named[place.Key(storage.Absolute(f.Path))] = f.What
	}
}

// find looks for those that are there.
func (n *Needs) find() {
	n.byPath, n.byID, n.far = map[string]string{}, map[folder.ID][]needed{}, map[string][]Needed{}
	add := func(f Needed) {
		n.byPath[place.Key(storage.Absolute(f.Path))] = f.What
		info, err := os.Stat(f.Path)
		if err != nil {
			name := storage.Base(f.Path) // it is at a server, not there yet, or will be missed by whoever needs it
			n.far[name] = append(n.far[name], f)
			return
		}
		if id, _, known := folder.IDOf(f.Path, info); known {
			n.byID[id] = append(n.byID[id], needed{blob.File{Path: f.Path, Info: info}, f.What})
		}
	}
	for _, f := range n.Named {
		add(f)
	}
	if n.Sources != nil {
		n.Sources(add)
	}
}

// Make refuses that something new takes a path that an option names: kind fault.Refused.
func (n *Needs) Make(path string) error {
	if n == nil || len(n.Named) == 0 {
		return nil
	}
	n.naming.Do(n.name)
	if what := n.named[place.Key(storage.Absolute(path))]; what != "" {
		return inUse(path, what)
	}
	return nil
}

// Replace refuses that something takes the place of what the run needs, however its path is written: kind fault.Refused.
func (n *Needs) Replace(path string) error {
	if n == nil {
		return nil
	}
	n.finding.Do(n.find)
	if what := n.byPath[place.Key(storage.Absolute(path))]; what != "" {
		return inUse(path, what)
	}
	for _, f := range n.Folders {
		if full := storage.Absolute(path); storage.Below(storage.Absolute(f.Path), full) != full {
			return inUse(path, f.What)
		}
	}
	info, err := n.Sites.Stat(path)
	if err != nil {
		return nil // whoever replaces it says so
	}
	if storage.IsFar(info) {
		return n.replaceFar(blob.File{Info: info}, path)
	}
	id, _, _ := folder.IDOf(path, info)
	for _, f := range n.byID[id] {
		if storage.SameEntry(f.File, path) {
			return inUse(path, f.what)
		}
	}
	return nil
}

// replaceFar refuses that something takes the place of a file at a server that may be one that the run needs: it is
// called like that, and is the same version. A server may have several addresses for one folder, of which it says nothing.
func (n *Needs) replaceFar(there blob.File, path string) error {
	for _, f := range n.far[storage.Base(path)] {
		if needed, err := n.Sites.Stat(f.Path); err == nil && there.Is(needed) {
			return inUse(path, "perhaps "+f.Path+", "+f.What)
		}
	}
	return nil
}

func inUse(path, what string) error {
	return fault.At(path, fault.New(fault.Refused, "it is %s, which this run needs, and would be replaced", what).Advise("nothing was replaced; name another place, or keep that elsewhere"))
}
