package stage

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"strconv"
	"sync/atomic"

	"widecrate/core/archive"
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
	Same         // it was there already, byte for byte
	Skipped
	Replaced
	Lost     // its data could not be had: see Unit.Lose
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
	Mode   bool // it was there already, with other permissions, and keeps them
}

// Rules are how a unit goes into its folder.
type Rules struct {
	Clash Clash
	Fresh bool // the unit's folder takes the place of the one that is there
}

// A Unit is what one archive brings into a root: all of its items are staged,
// and then committed together.
//
// A unit whose folder does not exist yet is staged as a tree, and appears by
// one rename. Any other is staged flat, each file under a number: it costs no
// folders, and can be merged into what is there.
type Unit struct {
	root     *Root
	folder   string // below the root; "." for the root itself
	items    []Item
	rules    Rules
	id       string
	whole    bool // its folder appears, or is swapped, by one rename
	distinct bool // no two items have the same path
	taken    map[string]bool
	staged   []atomic.Bool
	result   []Result
	gone     []string        // of the folder that is swapped for this one
	numbers  []int           // of the staged files of the items, where they were gathered
	gathered map[int]bool    // numbers that were staged before the items were known
	loose    loose           // what is staged flat and has no name yet
	folders  map[string]bool // of it, where links have to know; see leadsToFolder
}

// Begin starts a unit in a folder below the root; "" is the root itself. With
// Skip, items whose path is taken already need not be written: see Wanted.
// Items that contradict each other, in that one would have to be a folder for
// another, are an error of kind fault.Refused.
func (r *Root) Begin(folder string, items []Item, rules Rules) (*Unit, error) {
	u := &Unit{root: r}
	return u, u.begin(folder, items, rules)
}

// Gather starts a unit whose items become known only while they arrive. Each is
// staged under a number with Stage; Complete then says what they are.
func (r *Root) Gather() *Unit {
	return &Unit{root: r, id: r.nextUnit(), gathered: map[int]bool{}}
}

// Stage writes the data of a gathered item, of which only permissions, time and
// kind count yet.
func (u *Unit) Stage(number int, it *Item, fill func(w io.Writer) error) error {
	f, err := u.makeFlat(number, it)
	if err == nil {
		u.gathered[number] = true
	}
	return u.write(f, err, it, it.Name, fill)
}

// write writes a new file that goes to a path below the root, unless making it
// failed already.
func (u *Unit) write(f folder.File, err error, it *Item, rel string, fill func(w io.Writer) error) error {
	t := &target{f, u.root, rel}
	if err != nil {
		return t.failed(err)
	}
	err = fill(t)
	if finished := t.failed(f.Finish(it.Modified)); err == nil {
		err = finished
	}
	return err
}

// Complete gives a gathered unit its items, with the numbers of their staged
// files, and is otherwise like Begin.
func (u *Unit) Complete(folder string, items []Item, numbers []int, rules Rules) error {
	u.numbers = numbers
	return u.begin(folder, items, rules)
}

// Consistent makes sure that items do not contradict each other, and that the system can
// hold their paths; see Begin. It looks at no disk.
func Consistent(items []Item) error {
	u := &Unit{root: &Root{preview: true}}
	return u.begin(".", items, Rules{})
}

// holds makes sure that the system can hold all paths.
func (u *Unit) holds() error {
	if err := place.Holds(u.folder); err != nil {
		return fault.At(u.root.path, err)
	}
	for i := range u.items {
		if err := place.Holds(u.items[i].Path); err != nil {
			return fault.At(u.items[i].Name, err)
		}
	}
	return nil
}

func (u *Unit) begin(folder string, items []Item, rules Rules) error {
	r := u.root
	u.folder, u.items, u.rules = path.Clean(folder), items, rules
	u.staged, u.result = make([]atomic.Bool, len(items)), make([]Result, len(items))
	if err := u.holds(); err != nil {
		return err
	}
	for i := range items {
		u.result[i].Path = below(u.folder, items[i].Path)
		if u.gathered != nil && u.gathered[u.numbers[i]] {
			u.staged[i].Store(true)
		}
	}
	if err := u.checkKinds(); err != nil || r.preview {
		return err
	}
	if u.gathered != nil {
		u.distinct = false // they are staged flat
	} else {
		u.id = r.nextUnit()
	}
	if err := u.chooseWay(); err != nil {
		return err
	}
	switch {
	case u.whole && u.distinct:
		return fault.Writing(r.path, u.makeTree())
	case u.whole:
		return fault.Writing(r.path, r.area.Mkdir(u.id, 0o777))
	case rules.Clash == Skip && u.gathered == nil:
		return u.skipTaken()
	}
	return nil
}

// chooseWay finds out whether the unit's folder can appear by one rename.
func (u *Unit) chooseWay() error {
	if u.folder == "." {
		return nil
	}
	there, err := u.root.dest.Lstat(u.folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		u.whole = true
	case err == nil && u.rules.Fresh && !there.IsDir():
		return fault.At(u.root.full(u.folder), fault.New(fault.Refused, "it is not a folder, so it cannot be swapped for a fresh one"))
	case err == nil:
		u.whole = u.rules.Fresh
	}
	return nil // what else is wrong there shows when it is merged
}

// Lose gives an item up, whose data could not be had: the others are committed
// without it.
func (u *Unit) Lose(i int) error {
	u.result[i].Action = Lost
	if !u.staged[i].Swap(false) {
		return nil
	}
	if u.loose.drop(u.number(i)) {
		return nil
	}
	dir, name := u.stagedAt(i)
	return fault.Writing(u.root.full(u.result[i].Path), u.root.area.Remove(path.Join(dir, name)))
}

// LoseNumber is Lose for what was gathered.
func (u *Unit) LoseNumber(number int) error {
	delete(u.gathered, number)
	if u.loose.drop(number) {
		return nil
	}
	return fault.Writing(u.root.path, ignoreMissing(u.root.area.Remove(u.flatName(number))))
}

// HardLink stages item i as a second name of item j, which is staged already;
// false says that it is not.
func (u *Unit) HardLink(i, j int) (bool, error) {
	if !u.staged[j].Load() {
		return false, nil
	}
	if err := u.settle(j); err != nil {
		return true, fault.Writing(u.root.full(u.result[j].Path), err)
	}
	from, fromName := u.stagedAt(j)
	to, toName := u.stagedAt(i)
	area := u.root.area
	err := area.Link(path.Join(from, fromName), path.Join(to, toName))
	if err != nil { // not every file system has second names
		hand := u.Hand()
		defer hand.Close()
		err = hand.Write(i, func(w io.Writer) error {
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
	return true, fault.Writing(u.root.full(u.result[i].Path), err)
}

// skipTaken finds the items that are skipped for certain: what is at their path
// differs from what the archive says of them. One that seems equal is compared
// byte for byte when it is staged.
func (u *Unit) skipTaken() error {
	return u.eachSpot(u.destination(), func(i int, at spot) error {
		if at.dir == nil || u.items[i].Kind == archive.Folder {
			return nil
		}
		there, err := at.dir.Lstat(at.name)
		if err != nil {
			return fault.Writing(u.root.full(u.result[i].Path), ignoreMissing(err))
		}
		same, err := u.sameAsClaimed(i, at, there)
		if err == nil && !same {
			u.result[i].Action = Skipped
		}
		return fault.Writing(u.root.full(u.result[i].Path), err)
	})
}

// Wanted reports whether the data of an item is needed.
func (u *Unit) Wanted(i int) bool {
	return u.items[i].Kind == archive.File && u.result[i].Action != Skipped
}

// Staged reports whether an item is staged.
func (u *Unit) Staged(i int) bool { return u.staged[i].Load() }

// checkKinds refuses an item that is a folder for one path and something else
// for another, and finds out whether all paths are distinct.
func (u *Unit) checkKinds() error {
	byPath := make(map[string]int, len(u.items))
	u.distinct = true
	for i := range u.items {
		key := u.root.fold(u.items[i].Path)
		if first, taken := byPath[key]; taken {
			a, b := u.items[first].Kind, u.items[i].Kind
			if (a == archive.Folder) != (b == archive.Folder) {
				return u.contradiction(first, i)
			}
			u.distinct = u.distinct && a == archive.Folder
			continue
		}
		byPath[key] = i
	}
	for i := range u.items {
		for dir := path.Dir(u.items[i].Path); dir != "."; dir = path.Dir(dir) {
			if above, taken := byPath[u.root.fold(dir)]; taken && u.items[above].Kind != archive.Folder {
				return u.contradiction(above, i)
			}
		}
	}
	if u.rules.Clash == Number {
		u.taken = make(map[string]bool, len(byPath))
		for key := range byPath {
			u.taken[key] = true
		}
	}
	return nil
}

func (u *Unit) contradiction(a, b int) error {
	return fault.New(fault.Refused, "entry %q would have to be a folder for entry %q", u.items[a].Name, u.items[b].Name).
		Suggest(fault.DropEntry)
}

// stagedAt says where item i lies in the staging area: folder and name.
func (u *Unit) stagedAt(i int) (dir, name string) {
	if !u.whole || !u.distinct {
		return ".", u.flatName(u.number(i))
	}
	dir, name = path.Split(u.items[i].Path)
	return path.Join(u.id, dir), name
}

// number is that of the staged file of item i, where it is staged flat.
func (u *Unit) number(i int) int {
	if u.numbers != nil {
		return u.numbers[i]
	}
	return i
}

func (u *Unit) flatName(number int) string { return u.id + "-" + strconv.Itoa(number) }

// A Hand writes items of a unit. It keeps the handle of the folder that it last
// wrote to; each goroutine uses its own, and closes it before the commit.
type Hand struct {
	u   *Unit
	rel string
	dir *folder.Folder
}

// Hand returns a new hand.
func (u *Unit) Hand() *Hand { return &Hand{u: u} }

// Write stages the data of item i. An error of fill is returned as it is, one
// of the file system as kind fault.Unwritable.
func (h *Hand) Write(i int, fill func(w io.Writer) error) error {
	it := &h.u.items[i]
	f, err := h.make(i)
	if err == nil {
		h.u.staged[i].Store(true)
	}
	return h.u.write(f, err, it, h.u.result[i].Path, fill)
}

func (h *Hand) make(i int) (folder.File, error) {
	rel, name := h.u.stagedAt(i)
	if rel == "." {
		return h.u.makeFlat(h.u.number(i), &h.u.items[i])
	}
	dir, err := h.at(rel)
	if err != nil {
		return nil, err
	}
	perm := h.u.items[i].perm()
	if area := h.u.root.area; area.nameless() && area.onDisk {
		return area.MakeFor(dir.Handle, name, perm)
	}
	return dir.Make(name, perm)
}

// at returns the handle of a folder of the staging area.
func (h *Hand) at(rel string) (*folder.Folder, error) {
	if rel == "." {
		return h.u.root.area.Folder, nil
	}
	if h.dir != nil && h.rel == rel {
		return h.dir, nil
	}
	h.Close()
	dir, err := folder.Open(h.u.root.area.Root, rel)
	if err != nil {
		return nil, err
	}
	h.dir, h.rel = dir, rel
	return dir, nil
}

// Close lets go of the folder.
func (h *Hand) Close() {
	if h.dir != nil {
		h.dir.Close()
		h.dir = nil
	}
}

// target is the file that an item is written to; its errors name the file.
type target struct {
	f    folder.File
	root *Root
	rel  string
}

func (t *target) failed(err error) error {
	if err == nil {
		return nil
	}
	return fault.Writing(t.root.full(t.rel), err)
}

func (t *target) Write(p []byte) (int, error) {
	n, err := t.f.Write(p)
	return n, t.failed(err)
}

// WriteHole is that of archive.HoleWriter: the file system makes the hole.
func (t *target) WriteHole(n int64) error { return t.failed(t.f.Hole(n)) }

// Discard removes what was staged.
func (u *Unit) Discard() error {
	if u.root.preview {
		return nil
	}
	var err error
	if u.whole {
		err = u.root.area.Clear(u.id)
	}
	u.loose.dropAll()
	for number := range u.gathered {
		if removed := ignoreMissing(u.root.area.Remove(u.flatName(number))); removed != nil {
			err = removed
		}
	}
	for i := range u.items {
		if dir, name := u.stagedAt(i); dir == "." && u.staged[i].Load() {
			if removed := ignoreMissing(u.root.area.Remove(name)); removed != nil {
				err = removed
			}
		}
	}
	return fault.Writing(u.root.path, err)
}

// perm returns the permissions to make a file with; the system takes its mask
// off.
func (it *Item) perm() fs.FileMode {
	if it.HasMode {
		return it.Mode & fs.ModePerm
	}
	return 0o666
}
