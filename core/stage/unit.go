package stage

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// An Item is something that an archive brings: an entry, its path replaced by
// the cleaned one below the unit's folder. A link has its target.
type Item struct {
	archive.Entry
	Name string // the path that the archive gives it, for people
}

// Clash says what happens to an item whose path is taken by something else.
// Equal bytes are no clash.
type Clash uint8

// The clash rules.
const (
	Refuse  Clash = iota // nothing of the unit is put into place
	Skip                 // what is there stays
	Replace              // the item takes its place
)

// An Action is what became, or would become, of an item.
type Action uint8

// The actions.
const (
	Added Action = iota
	Same         // it was there already, byte for byte
	Skipped
	Replaced
	clashing // only within this package: it makes the unit refused
)

var actionNames = [...]string{"added", "same", "skipped", "replaced", "clashing"}

func (a Action) String() string { return actionNames[a] }

// A Unit is what one archive brings into a root: all of its items are staged,
// and then committed together.
//
// A unit whose folder does not exist yet is staged as a tree, and appears by
// one rename. Any other is staged flat, each file under a number: it costs no
// folders, and can be merged into what is there.
type Unit struct {
	root   *Root
	folder string // below the root; "." for the root itself
	items  []Item
	clash  Clash
	id     string
	tree   bool
	staged []atomic.Bool
	result []Action
}

// Begin starts a unit. With Skip, items whose path is taken already need not be
// written: Wanted tells. Items must not contradict each other in kind: where
// one is a folder by its path or by another's, it must be one. This is checked,
// with an error of kind fault.Refused.
func (r *Root) Begin(folder string, items []Item, clash Clash) (*Unit, error) {
	u := &Unit{root: r, folder: path.Clean(folder), items: items, clash: clash,
		staged: make([]atomic.Bool, len(items)), result: make([]Action, len(items))}
	distinct, err := u.checkKinds()
	if err != nil {
		return nil, err
	}
	if r.preview {
		return u, nil
	}
	u.id = r.nextUnit()
	_, err = r.root.Lstat(u.folder)
	if distinct && errors.Is(err, fs.ErrNotExist) {
		u.tree = true
		return u, fault.Writing(r.path, u.makeTree())
	}
	if clash == Skip {
		return u, u.eachSpot(func(i int, at spot) error {
			if at.dir != nil && items[i].Kind != archive.Folder {
				if _, err := at.dir.Lstat(at.name); err == nil {
					u.result[i] = Skipped
				}
			}
			return nil
		})
	}
	return u, nil
}

// Wanted reports whether the data of an item is needed.
func (u *Unit) Wanted(i int) bool { return u.items[i].Kind == archive.File && u.result[i] != Skipped }

// checkKinds refuses an item that is a folder for one path and something else
// for another, and reports whether all paths are distinct.
func (u *Unit) checkKinds() (distinct bool, err error) {
	byPath := make(map[string]int, len(u.items))
	distinct = true
	for i := range u.items {
		key := u.root.fold(u.items[i].Path)
		if first, taken := byPath[key]; taken {
			a, b := u.items[first].Kind, u.items[i].Kind
			if (a == archive.Folder) != (b == archive.Folder) {
				return false, u.contradiction(first, i)
			}
			distinct = distinct && a == archive.Folder
			continue
		}
		byPath[key] = i
	}
	for i := range u.items {
		for dir := path.Dir(u.items[i].Path); dir != "."; dir = path.Dir(dir) {
			if above, taken := byPath[u.root.fold(dir)]; taken && u.items[above].Kind != archive.Folder {
				return false, u.contradiction(above, i)
			}
		}
	}
	return distinct, nil
}

func (u *Unit) contradiction(a, b int) error {
	return fault.New(fault.Refused, "entry %q would have to be a folder for entry %q", u.items[a].Name, u.items[b].Name).
		Advise("leave one of the two out with --drop")
}

// makeTree makes the unit's folders in staging.
func (u *Unit) makeTree() error {
	top := path.Join(u.root.name, u.id)
	if err := u.root.root.Mkdir(top, 0o777); err != nil {
		return err
	}
	made := map[string]bool{".": true}
	var ensure func(dir string) error
	ensure = func(dir string) error {
		key := u.root.fold(dir)
		if made[key] {
			return nil
		}
		if err := ensure(path.Dir(dir)); err != nil {
			return err
		}
		made[key] = true
		return u.root.root.Mkdir(path.Join(top, dir), 0o777)
	}
	for i := range u.items {
		dir := u.items[i].Path
		if u.items[i].Kind != archive.Folder {
			dir = path.Dir(dir)
		}
		if err := ensure(dir); err != nil {
			return err
		}
	}
	return nil
}

// stagedAt tells where item i lies in staging: folder, below the root, and name.
func (u *Unit) stagedAt(i int) (dir, name string) {
	if !u.tree {
		return u.root.name, u.id + "-" + strconv.Itoa(i)
	}
	dir, name = path.Split(u.items[i].Path)
	return path.Join(u.root.name, u.id, dir), name
}

// A Hand writes items of a unit. It keeps the handle of the folder that it last
// wrote to; each goroutine uses its own, and closes it before the commit.
type Hand struct {
	u   *Unit
	rel string
	dir *folder
}

// Hand returns a new hand.
func (u *Unit) Hand() *Hand { return &Hand{u: u} }

// link stages a symbolic link.
func (h *Hand) link(i int) error {
	rel, name := h.u.stagedAt(i)
	dir, err := h.at(rel)
	if err != nil {
		return err
	}
	it := &h.u.items[i]
	if err := dir.Symlink(it.Link, name); err != nil {
		return err
	}
	h.u.staged[i].Store(true)
	if it.Modified.IsZero() {
		return nil
	}
	return dir.setTime(name, it.Modified)
}

// Write stages the data of item i. An error of fill is returned as it is, one
// of the file system as kind fault.Unwritable; after either nothing of the item
// is left.
func (h *Hand) Write(i int, fill func(w io.Writer) error) error {
	rel, name := h.u.stagedAt(i)
	dir, err := h.at(rel)
	it := &h.u.items[i]
	full := h.u.root.full(h.u.target(i))
	if err != nil {
		return fault.Writing(full, err)
	}
	f, err := dir.create(name, it.perm())
	if err != nil {
		return fault.Writing(full, err)
	}
	h.u.staged[i].Store(true)
	w := &target{f, full}
	err = fill(w)
	if finished := fault.Writing(full, f.finish(it.Modified)); err == nil {
		err = finished
	}
	return err
}

// at returns the handle of a folder below the root.
func (h *Hand) at(rel string) (*folder, error) {
	if rel == h.u.root.name {
		return h.u.root.staging, nil
	}
	if h.dir != nil && h.rel == rel {
		return h.dir, nil
	}
	h.Close()
	dir, err := openFolder(h.u.root.root, rel)
	if err != nil {
		return nil, err
	}
	h.dir, h.rel = dir, rel
	return dir, nil
}

// Close lets go of the folder.
func (h *Hand) Close() {
	if h.dir != nil {
		h.dir.close()
		h.dir = nil
	}
}

// target is the file that an item is written to; its errors name the file.
type target struct {
	f    file
	path string
}

func (t *target) Write(p []byte) (int, error) {
	n, err := t.f.Write(p)
	return n, fault.Writing(t.path, err)
}

// Discard removes what was staged.
func (u *Unit) Discard() error {
	if u.root.preview {
		return nil
	}
	var err error
	if u.tree {
		err = u.root.root.RemoveAll(path.Join(u.root.name, u.id))
	} else {
		for i := range u.items {
			if u.staged[i].Load() {
				_, name := u.stagedAt(i)
				if removed := u.root.staging.Remove(name); removed != nil && !errors.Is(removed, fs.ErrNotExist) {
					err = removed
				}
			}
		}
	}
	return fault.Writing(u.root.path, err)
}

// spot is the place in the destination that an item is meant for.
type spot struct {
	dir     *folder // nil: there is no such folder yet
	name    string
	blocked string // what stands where a folder would have to be, below the root
}

// eachSpot visits the items one destination folder after the other, in item
// order within each.
func (u *Unit) eachSpot(visit func(i int, at spot) error) error {
	order := make([]int, len(u.items))
	parents := make([]string, len(u.items))
	for i := range order {
		order[i], parents[i] = i, path.Dir(u.target(i))
	}
	slices.SortStableFunc(order, func(a, b int) int { return strings.Compare(parents[a], parents[b]) })
	var at spot
	release := func() {
		if at.dir != nil && at.dir != u.root.home {
			at.dir.close()
		}
	}
	defer func() { release() }()
	for n, i := range order {
		if n == 0 || parents[i] != parents[order[n-1]] {
			release()
			var err error
			if at, err = u.root.spot(parents[i]); err != nil {
				return err
			}
		}
		at.name = path.Base(u.target(i))
		if err := visit(i, at); err != nil {
			return err
		}
	}
	return nil
}

// target is the path of an item below the root.
func (u *Unit) target(i int) string { return path.Join(u.folder, u.items[i].Path) }

// spot opens a destination folder.
func (r *Root) spot(rel string) (spot, error) {
	switch {
	case r.root == nil:
		return spot{}, nil
	case rel == "." && r.home != nil:
		return spot{dir: r.home}, nil
	}
	dir, err := openFolder(r.root, rel)
	if err == nil {
		return spot{dir: dir}, nil
	}
	for above := rel; above != "."; above = path.Dir(above) {
		if info, statErr := r.root.Stat(above); statErr == nil && !info.IsDir() {
			return spot{blocked: above}, nil
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return spot{}, nil
	}
	return spot{}, fault.Writing(r.full(rel), err)
}
