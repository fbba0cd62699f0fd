package stage

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// merge is a unit that is staged flat: into a folder that is there, or a new one in which
// clashes of its own have to be settled first.
type merge struct {
	*staging
	isNew    bool         // its folder appears, or is swapped, by one rename
	gathered map[int]bool // numbers that were staged before the items were known
}

func (m *merge) begin() error {
	switch {
	case m.isNew:
		return fault.Writing(m.site.path, m.root.area.Mkdir(m.id, 0o777))
	case m.rules.Clash == Skip && m.gathered == nil:
		return m.skipTaken()
	}
	return nil
}

// skipTaken finds the items that are skipped for certain: what is at their path
// differs from what the archive says of them. One that seems equal is compared
// byte for byte when it is staged.
func (u *merge) skipTaken() error {
	return u.eachSlot(u.destination(), func(i int, at slot) error {
		if at.dir == nil || u.items[i].Kind == archive.Folder {
			return nil
		}
		there, err := at.dir.Lstat(at.name)
		if err != nil {
			return fault.Writing(u.site.full(u.result[i].Path), ignoreMissing(err))
		}
		same, err := u.sameAsClaimed(i, at, there)
		if err == nil && !same {
			u.result[i].Action = Skipped
		}
		return fault.Writing(u.site.full(u.result[i].Path), err)
	})
}

// A Gathering is a unit whose items become known only while they arrive. Each is staged under
// a number with Stage; Complete then says what they are.
type Gathering struct {
	root   *Root
	id     string
	staged map[int]bool
	loose  loose
}

// Gather starts one.
func (r *Root) Gather() *Gathering {
	return &Gathering{root: r, id: r.nextUnit(), staged: map[int]bool{}, loose: loose{area: r.area}}
}

// Stage writes the data of an item, of which only permissions, time and kind count yet.
func (g *Gathering) Stage(number int, it *Item, fill func(to io.Writer) error) error {
	f, err := g.loose.make(g.id, number, it)
	if err == nil {
		g.staged[number] = true
	}
	return write(&g.root.site, f, err, it, it.Name, fill)
}

// Lose is Unit.Lose for what was staged under a number.
func (g *Gathering) Lose(number int) error {
	delete(g.staged, number)
	if g.loose.drop(number) {
		return nil
	}
	return fault.Writing(g.root.path, ignoreMissing(g.root.area.Remove(flatName(g.id, number))))
}

// Discard removes what was staged.
func (g *Gathering) Discard() (err error) {
	g.loose.dropAll()
	for number := range g.staged {
		if removed := ignoreMissing(g.root.area.Remove(flatName(g.id, number))); removed != nil {
			err = removed
		}
	}
	return fault.Writing(g.root.path, err)
}

// Complete gives a gathering its items, with the numbers of their staged files, and is
// otherwise like Begin. The gathering is discarded with the unit; with an error it stays.
func (g *Gathering) Complete(folder string, items []Item, numbers []int, rules Rules) (Unit, error) {
	d, _, err := newDelivery(&g.root.site, folder, items, rules)
	if err != nil {
		return nil, err
	}
	m := &merge{staging: g.root.stage(d, g.id), gathered: g.staged}
	if m.isNew, err = g.root.isNew(d); err != nil {
		return nil, err
	}
	m.numbers, m.loose.files = numbers, g.loose.files
	for i, number := range numbers {
		m.staged[i].Store(g.staged[number])
	}
	if err := m.begin(); err != nil {
		return nil, err
	}
	g.loose.files = nil
	return m, nil
}

// Commit is that of Unit.
func (m *merge) Commit() ([]Result, error) { return m.committed(m.commit()) }

func (m *merge) commit() error {
	if err := m.linkAll(); err != nil {
		return err
	}
	if m.isNew && !m.rules.Fresh { // an archive before this one may have made its folder
		if _, err := m.site.dest.Lstat(m.folder); err == nil {
			m.isNew = false
			_ = m.root.area.Remove(m.id) // the folder is empty; one that stays goes with the area
		}
	}
	if !m.isNew {
		if placed, err := m.placeAlone(); placed || err != nil {
			return err
		}
		err := m.mergeThere()
		if err == nil {
			_ = m.Discard() // those that were skipped
		}
		return err
	}
	// Clashes are settled within the new folder.
	if err := m.mergeInto(ground{base: m.root.area.Root, folder: m.id}); err != nil {
		return err
	}
	if m.rules.Fresh {
		return m.commitFresh()
	}
	err := m.commitFolder()
	if errors.Is(err, fs.ErrExist) {
		return fault.At(m.site.full(m.folder), fault.New(fault.Refused, "it appeared while the archive was unpacked").Advise("run it again"))
	}
	return fault.Writing(m.site.full(m.folder), err)
}

// Discard is that of Unit.
func (m *merge) Discard() error {
	var err error
	if m.isNew {
		err = m.root.area.Clear(m.id)
	}
	for number := range m.gathered {
		if removed := ignoreMissing(m.root.area.Remove(flatName(m.id, number))); removed != nil {
			err = removed
		}
	}
	if removed := m.discardFlat(); removed != nil {
		err = removed
	}
	return fault.Writing(m.site.path, err)
}

// placeAlone names the only file of a unit, which is safe without a look and
// without keeping others away; false where something is in the way.
func (u *merge) placeAlone() (placed bool, err error) {
	if len(u.items) != 1 || u.result[0].Action != Added {
		return false, nil
	}
	where := u.destination()
	at, err := where.slot(path.Dir(u.result[0].Path))
	if err != nil || at.dir == nil {
		return false, nil // the merge makes the folder, or says what is wrong
	}
	defer where.release(at)
	placed, err = u.loose.nameIn(u.number(0), at.dir, path.Base(u.result[0].Path))
	switch {
	case errors.Is(err, fs.ErrExist):
		return false, nil
	case err != nil:
		return false, fault.Writing(u.site.full(u.result[0].Path), err)
	}
	if placed {
		u.staged[0].Store(false)
	}
	return placed, nil
}

// mergeThere merges into the folder that is there, while no other merge goes on in the root.
func (u *staging) mergeThere() error {
	release, err := u.root.hold()
	if err != nil {
		return fault.Writing(u.site.path, err)
	}
	defer release()
	return u.mergeInto(u.destination())
}

// attempts bounds how often a merge is begun again because somebody else puts
// files where it does.
const attempts = 5

// mergeInto finds out what is to become of each item and moves it there. What
// appears between the two is looked at as well.
func (u *staging) mergeInto(where ground) error {
	settled := slices.Clone(u.result) // of those that are skipped or lost for certain
	for tries := 1; ; tries++ {
		copy(u.result, settled)
		if err := u.survey(where); err != nil {
			return err
		}
		err := u.move(where)
		between := errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) // something appeared, or a folder vanished
		switch {
		case !between || u.root.area.keep.Load():
			return err
		case tries < attempts:
		case errors.Is(err, fs.ErrNotExist):
			return err
		default:
			return u.disturbed()
		}
	}
}

// disturbed is the error of a merge that never finds the folder as it was a moment ago.
func (u *staging) disturbed() error {
	return fault.At(u.site.full(u.folder), fault.New(fault.Refused, "something else writes to it at the same time").
		Advise("nothing of this archive was put into place; run it again"))
}
