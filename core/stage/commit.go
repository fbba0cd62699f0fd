package stage

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// A ClashError says which items found something else at their path.
type ClashError struct {
	Clashes []Clashing
}

// Clashing is one item of a ClashError.
type Clashing struct {
	Path     string // what is there
	Entry    string // what would take its place, as the archive calls it
	Other    string // the entry of the same archive that is there; empty: it is on disk
	InTheWay bool   // one is a folder and the other is not
}

func (c Clashing) String() string {
	switch {
	case c.Other != "":
		return fmt.Sprintf("entry %q and entry %q both go to %s", c.Other, c.Entry, c.Path)
	case c.InTheWay:
		return fmt.Sprintf("%s is in the way of entry %q: one of the two is a folder", c.Path, c.Entry)
	}
	return fmt.Sprintf("entry %q differs from %s", c.Entry, c.Path)
}

func (e *ClashError) Error() string {
	const shown = 3
	var b strings.Builder
	for i, c := range e.Clashes[:min(shown, len(e.Clashes))] {
		if i > 0 {
			b.WriteString("; ")
		}
		b.WriteString(c.String())
	}
	if more := len(e.Clashes) - shown; more > 0 {
		fmt.Fprintf(&b, "; and %d more", more)
	}
	return b.String()
}

// Commit puts the staged items into place and tells what became of each. Either
// all of them are in place afterwards, or, with an error, none: one of kind
// fault.Refused, with a *ClashError in it, when something was in the way; of
// kind fault.Unwritable when the system failed.
func (u *Unit) Commit() ([]Action, error) {
	hand := u.Hand()
	defer hand.Close()
	for i := range u.items {
		if u.items[i].Kind == archive.Symlink && u.result[i] != Skipped {
			if err := hand.link(i); err != nil {
				return nil, fault.Writing(u.root.full(u.target(i)), err)
			}
		}
	}
	hand.Close()
	if u.tree {
		err := u.commitTree()
		if err == nil || !errors.Is(err, fs.ErrExist) {
			return u.result, fault.Writing(u.root.full(u.folder), err)
		}
	}
	if err := u.survey(u.sameAsStaged); err != nil {
		return nil, err
	}
	if err := u.merge(); err != nil {
		return nil, err
	}
	return u.result, nil
}

// Preview tells what Commit would do, from what the archive says of its entries
// and from what is in the root, the units previewed before included.
func (u *Unit) Preview() ([]Action, error) {
	if err := u.survey(u.sameAsClaimed); err != nil {
		return nil, err
	}
	for i, action := range u.result {
		if action == Added || action == Replaced {
			u.root.planned[u.root.fold(u.target(i))] = u.items[i].Entry
		}
	}
	return u.result, nil
}

// commitTree moves the unit's new folder into place.
func (u *Unit) commitTree() error {
	if err := u.finishFolders(path.Join(u.root.name, u.id), func(int) bool { return true }); err != nil {
		return err
	}
	made, err := u.root.makeFolders(path.Dir(u.folder))
	if err == nil {
		var at spot
		if at, err = u.root.spot(path.Dir(u.folder)); err == nil {
			err = u.root.staging.move(u.id, at.dir.handle, path.Base(u.folder), false)
			if at.dir != u.root.home {
				at.dir.close()
			}
		}
	}
	if err != nil {
		u.root.removeFolders(made)
	}
	return err
}

// finishFolders gives folders their permissions and times, after all that
// changes them: the innermost first.
func (u *Unit) finishFolders(top string, which func(i int) bool) error {
	var folders []int
	for i := range u.items {
		if u.items[i].Kind == archive.Folder && u.items[i].Path != "." && which(i) {
			folders = append(folders, i)
		}
	}
	slices.SortFunc(folders, func(a, b int) int { return strings.Compare(u.items[b].Path, u.items[a].Path) })
	for _, i := range folders {
		it := &u.items[i]
		at := path.Join(top, it.Path)
		if it.HasMode {
			info, err := u.root.root.Lstat(at)
			if err != nil {
				return err
			}
			// Its permissions are now all those that the system's mask allows.
			if err := u.root.root.Chmod(at, info.Mode().Perm()&it.Mode); err != nil {
				return err
			}
		}
		if !it.Modified.IsZero() {
			if err := u.root.root.Chtimes(at, it.Modified, it.Modified); err != nil {
				return err
			}
		}
	}
	return nil
}

// survey finds out what is to become of each item, by the clash rule. same
// tells whether an item is equal to what is at its spot.
func (u *Unit) survey(same func(i int, at spot, there fs.FileInfo) (bool, error)) error {
	first := map[string]int{} // items of this unit by path
	var clashes []Clashing
	err := u.eachSpot(func(i int, at spot) error {
		it := &u.items[i]
		full := u.root.full(u.target(i))
		if u.result[i] == Skipped {
			return nil
		}
		u.result[i] = Added
		key := u.root.fold(it.Path)
		if earlier, twice := first[key]; twice && it.Kind != archive.Folder {
			equal, err := u.equalItems(earlier, i)
			switch {
			case err != nil:
				return err
			case equal:
				u.result[i] = Same
				return nil
			case u.clash == Skip:
				u.result[i] = Skipped
				return nil
			case u.clash == Refuse:
				u.result[i] = clashing
				clashes = append(clashes, Clashing{Path: full, Entry: it.Name, Other: u.items[earlier].Name})
				return nil
			}
			u.result[earlier] = Skipped
		}
		first[key] = i
		there, equal, err := u.lookUp(i, at, same)
		switch {
		case err != nil:
			return fault.Writing(full, err)
		case there == nothing:
		case equal:
			u.result[i] = Same
		case u.clash == Skip:
			u.result[i] = Skipped
		case u.clash == Replace && there == replaceable:
			u.result[i] = Replaced
		default:
			u.result[i] = clashing
			if at.blocked != "" {
				full = u.root.full(at.blocked)
			}
			clashes = append(clashes, Clashing{Path: full, Entry: it.Name, InTheWay: there == inTheWay})
		}
		return nil
	})
	if err != nil {
		return err
	}
	if clashes != nil {
		return fault.New(fault.Refused, "%w", &ClashError{clashes}).
			Advise("nothing of this archive was put into place; --clash skip keeps what is there, --clash replace takes the archive's")
	}
	return nil
}

// occupant is what stands at an item's spot.
type occupant uint8

const (
	nothing occupant = iota
	replaceable
	inTheWay // a folder for a file, or the other way round: never replaced
)

func (u *Unit) lookUp(i int, at spot, same func(int, spot, fs.FileInfo) (bool, error)) (occupant, bool, error) {
	it := &u.items[i]
	if at.blocked != "" {
		return inTheWay, false, nil
	}
	if planned, ok := u.root.planned[u.root.fold(u.target(i))]; ok {
		if (planned.Kind == archive.Folder) != (it.Kind == archive.Folder) {
			return inTheWay, false, nil
		}
		return replaceable, claimEqual(&planned, &it.Entry), nil
	}
	if at.dir == nil {
		return nothing, false, nil
	}
	there, err := at.dir.Lstat(at.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nothing, false, nil
	}
	if err != nil {
		return nothing, false, err
	}
	if it.Kind == archive.Folder {
		if there.Mode()&fs.ModeSymlink != 0 {
			there, err = at.dir.Stat(at.name)
		}
		if err != nil || !there.IsDir() {
			return inTheWay, false, nil
		}
		return replaceable, true, nil
	}
	if there.IsDir() {
		return inTheWay, false, nil
	}
	equal, err := same(i, at, there)
	return replaceable, equal, err
}

// sameAsStaged compares an item with what is at its spot, byte for byte.
func (u *Unit) sameAsStaged(i int, at spot, there fs.FileInfo) (bool, error) {
	it := &u.items[i]
	if it.Kind == archive.Symlink {
		return sameLink(it, at, there)
	}
	if !there.Mode().IsRegular() {
		return false, nil
	}
	mine, err := u.openStaged(i)
	if err != nil {
		return false, err
	}
	defer mine.Close()
	if info, err := mine.Stat(); err != nil || info.Size() != there.Size() {
		return false, err
	}
	theirs, err := at.dir.Open(at.name)
	if err != nil {
		return false, err
	}
	defer theirs.Close()
	return equalBytes(mine, theirs)
}

// sameAsClaimed compares what the archive says of an item with what is there.
func (u *Unit) sameAsClaimed(i int, at spot, there fs.FileInfo) (bool, error) {
	it := &u.items[i]
	if it.Kind == archive.Symlink {
		return sameLink(it, at, there)
	}
	if !there.Mode().IsRegular() || there.Size() != it.Size {
		return false, nil
	}
	f, err := at.dir.Open(at.name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	sum := crc32.NewIEEE()
	_, err = io.Copy(sum, f)
	return it.HasCRC32 && sum.Sum32() == it.CRC32, err
}

func sameLink(it *Item, at spot, there fs.FileInfo) (bool, error) {
	if there.Mode()&fs.ModeSymlink == 0 {
		return false, nil
	}
	target, err := at.dir.Readlink(at.name)
	return target == it.Link, err
}

// equalItems compares two items of this unit that go to the same path.
func (u *Unit) equalItems(a, b int) (bool, error) {
	x, y := &u.items[a], &u.items[b]
	if x.Kind != archive.File || y.Kind != archive.File || u.root.preview {
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
	return equalBytes(f, g)
}

func claimEqual(a, b *archive.Entry) bool {
	if a.Kind == archive.Symlink {
		return b.Kind == archive.Symlink && a.Link == b.Link
	}
	return a.Kind == b.Kind && a.Size == b.Size && a.CRC32 == b.CRC32 && a.HasCRC32 && b.HasCRC32
}

func (u *Unit) openStaged(i int) (fs.File, error) {
	dir, name := u.stagedAt(i)
	return u.root.root.Open(path.Join(dir, name))
}

func equalBytes(a, b io.Reader) (bool, error) {
	const block = 64 << 10
	x, y := make([]byte, block), make([]byte, block)
	for {
		n, errA := io.ReadFull(a, x)
		m, errB := io.ReadFull(b, y)
		if !bytes.Equal(x[:n], y[:m]) {
			return false, nil
		}
		for _, err := range []error{errA, errB} {
			if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
				return false, err
			}
		}
		if errA != nil || errB != nil {
			return true, nil
		}
	}
}

// merge moves the items into the folders that are there, after the survey. What
// it did is taken back if a move fails.
func (u *Unit) merge() (err error) {
	var log undo
	defer func() {
		if err != nil {
			u.takeBack(&log)
		}
	}()
	last := ""
	for i := range u.items {
		dir := path.Dir(u.target(i))
		if u.items[i].Kind == archive.Folder {
			dir = u.target(i)
		}
		if u.result[i] != Added && u.result[i] != Replaced || dir == last {
			continue
		}
		made, err := u.root.makeFolders(dir)
		log.folders = append(log.folders, made...)
		if err != nil {
			return fault.Writing(u.root.full(dir), err)
		}
		last = dir
	}
	hand := u.Hand()
	defer hand.Close()
	err = u.eachSpot(func(i int, at spot) error {
		if u.items[i].Kind == archive.Folder || u.result[i] != Added && u.result[i] != Replaced {
			return nil
		}
		return fault.Writing(u.root.full(u.target(i)), u.moveIn(hand, i, at, &log))
	})
	if err != nil {
		return err
	}
	made := map[string]bool{}
	for _, dir := range log.folders {
		made[dir] = true
	}
	if err := u.finishFolders(u.folder, func(i int) bool { return made[u.target(i)] }); err != nil {
		return fault.Writing(u.root.full(u.folder), err)
	}
	for _, i := range log.replaced {
		// What stays is removed with the staging folder, which tells of errors.
		_ = u.root.staging.Remove(u.keptAs(i))
	}
	_ = u.Discard()
	return nil
}

// undo is what a merge did so far.
type undo struct {
	folders         []string // made
	added, replaced []int    // items
}

// moveIn moves one staged item to its spot. What it replaces is kept in staging.
func (u *Unit) moveIn(hand *Hand, i int, at spot, log *undo) error {
	rel, name := u.stagedAt(i)
	from, err := hand.at(rel)
	if err != nil {
		return err
	}
	if u.result[i] == Added {
		if err := from.move(name, at.dir.handle, at.name, false); err != nil {
			return err
		}
		log.added = append(log.added, i)
		u.staged[i].Store(false)
		return nil
	}
	// Linked, the old file is never missing under its name; not every file
	// system has links.
	kept := u.keptAs(i)
	if u.root.root.Link(u.target(i), path.Join(u.root.name, kept)) != nil {
		if err := at.dir.move(at.name, u.root.staging.handle, kept, false); err != nil {
			return err
		}
	}
	log.replaced = append(log.replaced, i)
	err = from.move(name, at.dir.handle, at.name, true)
	u.staged[i].Store(err != nil)
	return err
}

func (u *Unit) keptAs(i int) string { return fmt.Sprintf("%s-%d-old", u.id, i) }

// takeBack undoes a merge. It does what it can: an error in the middle of an
// error has nowhere to go, and what it cannot move back stays where it is.
func (u *Unit) takeBack(log *undo) {
	for _, i := range slices.Backward(log.added) {
		_ = u.root.root.Remove(u.target(i))
	}
	for _, i := range slices.Backward(log.replaced) {
		_ = u.root.root.Rename(path.Join(u.root.name, u.keptAs(i)), u.target(i))
	}
	u.root.removeFolders(log.folders)
}

// removeFolders removes folders that were made, as far as they are empty.
func (r *Root) removeFolders(made []string) {
	for _, dir := range slices.Backward(made) {
		_ = r.root.Remove(dir)
	}
}
