package stage

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
)

// A Unit is what one archive brings into a root: all of its items are staged,
// and then committed together.
//
// A unit whose folder does not exist yet is staged as a tree, and appears by
// one rename. Any other is staged flat, each file under a number: that costs no
// folders, and can be merged into what is there.
type Unit interface {
	// Wanted reports whether the data of an item is needed, and Staged whether it is there.
	Wanted(i int) bool
	Staged(i int) bool

	// Writer is what items are staged with.
	Writer() *Writer

	// HardLink stages item i as a second name of item j, which is staged already;
	// false says that it is not.
	HardLink(i, j int) (bool, error)

	// Lose gives an item up, whose data could not be had: the others are committed
	// without it.
	Lose(i int) error

	// Commit puts the staged items into place and says what became of each. Either
	// all of them are in place afterwards, or, with an error, none: one of kind
	// fault.Refused, with a *ClashError in it, when something was in the way; of
	// kind fault.Unwritable when the system failed.
	Commit() ([]Result, error)

	// Gone lists what was in the folder that was swapped for a fresh one, and is not in
	// that: absolute paths. It is nil without such a rule.
	Gone() []string

	// Made lists the folders that were made for it, with the root itself and those above it:
	// absolute paths. What is below one of them is new, too.
	Made() []string

	// Swapped is where the folder is kept that was swapped for a fresh one; empty: nowhere.
	Swapped() string

	// Discard removes what was staged.
	Discard() error
}

// Begin starts a unit in a folder below the root; "" is the root itself. With
// Skip, items whose path is taken already need not be written: see Unit.Wanted.
// Items that contradict each other, in that one would have to be a folder for
// another, are an error of kind fault.Refused.
func (r *Root) Begin(folder string, items []Item, rules Rules) (Unit, error) {
	d, distinct, err := newDelivery(&r.site, folder, items, rules)
	if err != nil {
		return nil, err
	}
	isNew, err := r.isNew(d)
	if err != nil {
		return nil, err
	}
	s := r.stage(d, r.nextUnit())
	if isNew && distinct {
		t := &tree{s}
		return t, fault.Writing(r.path, t.begin())
	}
	m := &merge{staging: s, isNew: isNew}
	return m, m.begin()
}

// isNew finds out whether the folder of a unit can appear by one rename.
func (r *Root) isNew(d *delivery) (bool, error) {
	if d.folder == "." {
		return false, nil
	}
	there, err := r.dest.Lstat(d.folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case err == nil && d.rules.Fresh && !there.IsDir():
		return false, fault.At(r.full(d.folder), fault.New(fault.Refused, "it is not a folder, so it cannot be swapped for a fresh one"))
	}
	return err == nil && d.rules.Fresh, nil // what else is wrong there shows when it is merged
}

// staging is what lies in the area of a root until it is committed.
type staging struct {
	*delivery
	root    *Root
	id      string
	staged  []atomic.Bool
	tree    bool            // in folders, and not flat
	numbers []int           // of the staged files of the items, where they were gathered
	loose   loose           // what is staged flat and has no name yet
	keeper  disposal.Keeper // of what is replaced
	swapped string          // where the folder is kept that was swapped for this one
	anew    []string        // folders that were made for it, below the root
	folders map[string]bool // of the unit, where links have to know; see leadsToFolder
}

func (r *Root) stage(d *delivery, id string) *staging {
	return &staging{delivery: d, root: r, id: id, staged: make([]atomic.Bool, len(d.items)), loose: loose{area: r.area}}
}

// Staged reports whether an item is staged.
func (u *staging) Staged(i int) bool { return u.staged[i].Load() }

// Made is that of Unit.
func (u *staging) Made() []string {
	made := slices.Clone(u.root.made)
	for _, dir := range u.anew {
		made = append(made, u.site.full(dir))
	}
	return made
}

// Swapped is that of Unit.
func (u *staging) Swapped() string { return u.swapped }

// keepReplaced keeps what a merge is about to replace.
func (u *staging) keepReplaced(j *journal) error {
	if u.rules.Keep == "" {
		return nil
	}
	u.keeper.Folder = u.rules.Keep
	for _, m := range j.Moves {
		if m.Kept == "" {
			continue
		}
		kept, err := u.keeper.Keep(u.site.full(m.Target), filepath.FromSlash(m.Target))
		if err != nil {
			u.keeper.Back()
			return err
		}
		u.result[m.item].Kept = kept
	}
	return nil
}

// keepSwapped keeps the folder that is about to be swapped.
func (u *staging) keepSwapped() (err error) {
	if u.rules.Keep == "" || u.swapped != "" {
		return nil
	}
	u.keeper.Folder = u.rules.Keep
	if u.swapped, err = u.keeper.KeepAll(u.site.full(u.folder), filepath.FromSlash(u.folder)); err != nil {
		u.keeper.Back()
	}
	return err
}

// at says where item i lies in the staging area: folder and name.
func (u *staging) at(i int) (dir, name string) {
	if !u.tree {
		return ".", flatName(u.id, u.number(i))
	}
	dir, name = path.Split(u.items[i].Path)
	return path.Join(u.id, dir), name
}

// number is that of the staged file of item i, where it is staged flat.
func (u *staging) number(i int) int {
	if u.numbers != nil {
		return u.numbers[i]
	}
	return i
}

func flatName(id string, number int) string { return id + "-" + strconv.Itoa(number) }

// Lose gives an item up, whose data could not be had: the others are committed
// without it.
func (u *staging) Lose(i int) error {
	u.result[i].Action = Lost
	if !u.staged[i].Swap(false) {
		return nil
	}
	if u.loose.drop(u.number(i)) {
		return nil
	}
	dir, name := u.at(i)
	return fault.Writing(u.site.full(u.result[i].Path), u.root.area.Remove(path.Join(dir, name)))
}

// HardLink stages item i as a second name of item j, which is staged already;
// false says that it is not.
func (u *staging) HardLink(i, j int) (bool, error) {
	if !u.staged[j].Load() {
		return false, nil
	}
	if err := u.settle(j); err != nil {
		return true, fault.Writing(u.site.full(u.result[j].Path), err)
	}
	from, fromName := u.at(j)
	to, toName := u.at(i)
	area := u.root.area
	err := area.Link(path.Join(from, fromName), path.Join(to, toName))
	if err != nil { // not every file system has second names
		w := u.Writer()
		defer w.Close()
		err = w.Write(i, func(w io.Writer) error {
			f, err := u.openStaged(j)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = io.Copy(w, f)
			return err
		})
	}
	u.staged[i].Store(err == nil)
	return true, fault.Writing(u.site.full(u.result[i].Path), err)
}

func (u *staging) openStaged(i int) (*os.File, error) {
	if err := u.settle(i); err != nil {
		return nil, err
	}
	dir, name := u.at(i)
	return u.root.area.Open(path.Join(dir, name))
}

// survey finds out what is to become of each item. What is staged is compared byte for byte.
func (u *staging) survey(where ground) error {
	return (&survey{delivery: u.delivery, where: where, contents: u}).run()
}

func (u *staging) same(i int, at slot, there fs.FileInfo) (bool, error) {
	it := &u.items[i]
	if it.Kind != archive.File {
		return u.sameAsClaimed(i, at, there)
	}
	if !there.Mode().IsRegular() || it.Size != archive.Unknown && there.Size() != it.Size {
		return false, nil
	}
	theirs, err := at.dir.Open(at.name)
	if err != nil {
		return false, err
	}
	defer theirs.Close()
	mine, err := u.openStaged(i)
	if err != nil {
		return false, err
	}
	defer mine.Close()
	return blob.Equal(mine, theirs)
}

func (u *staging) equal(a, b int) (bool, error) {
	x, y := &u.items[a], &u.items[b]
	if x.Kind != archive.File || y.Kind != archive.File {
		return claimEqual(&x.Entry, &y.Entry), nil
	}
	f, err := u.openStaged(a)
	if err != nil {
		return false, err
	}
	defer f.Close()
	g, err := u.openStaged(b)
	if err != nil {
		return false, err
	}
	defer g.Close()
	return blob.Equal(f, g)
}

func (u *staging) masked(perm fs.FileMode) fs.FileMode { return u.root.masked(perm) }

// committed is what Commit says after all is in place: the root is still where it was.
func (u *staging) committed(err error) ([]Result, error) {
	if err == nil {
		err = u.root.still()
	}
	if err != nil {
		return nil, err
	}
	u.loose.dropAll() // those that were skipped
	return u.result, nil
}

// discardFlat removes what is staged flat.
func (u *staging) discardFlat() (err error) {
	u.loose.dropAll()
	for i := range u.items {
		if dir, name := u.at(i); dir == "." && u.staged[i].Load() {
			if removed := ignoreMissing(u.root.area.Remove(name)); removed != nil {
				err = removed
			}
		}
	}
	return err
}
