package stage

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// Commit puts the staged items into place and says what became of each. Either
// all of them are in place afterwards, or, with an error, none: one of kind
// fault.Refused, with a *ClashError in it, when something was in the way; of
// kind fault.Unwritable when the system failed.
func (u *Unit) Commit() ([]Result, error) {
	if err := u.commit(); err != nil {
		return nil, err
	}
	if err := u.root.still(); err != nil {
		return nil, err
	}
	u.loose.dropAll() // those that were skipped
	return u.result, nil
}

func (u *Unit) commit() error {
	if err := u.linkAll(); err != nil {
		return err
	}
	if u.whole && !u.distinct && !u.rules.Fresh { // an archive before this one may have made its folder
		if _, err := u.root.dest.Lstat(u.folder); err == nil {
			u.whole = false
			_ = u.root.area.Remove(u.id) // empty; should it stay, it goes with the area
		}
	}
	if u.whole && !u.distinct { // their clashes are settled within the new folder
		if err := u.mergeInto(whereabouts{base: u.root.area.Root, folder: u.id}); err != nil {
			return err
		}
	}
	if u.whole && !u.rules.Fresh {
		err := u.commitFolder()
		switch {
		case err == nil:
			return nil
		case !errors.Is(err, fs.ErrExist):
			return fault.Writing(u.root.full(u.folder), err)
		case !u.distinct:
			return fault.At(u.root.full(u.folder), fault.New(fault.Refused, "it appeared while the archive was unpacked").Advise("run it again"))
		}
	}
	if placed, err := u.placeAlone(); placed || err != nil {
		return err
	}
	release, err := u.root.hold()
	if err != nil {
		return fault.Writing(u.root.path, err)
	}
	defer release()
	if u.whole && u.rules.Fresh {
		err := u.findGone()
		if err == nil {
			err = u.commitFolder()
		}
		return fault.Writing(u.root.full(u.folder), err)
	}
	return u.mergeInto(u.destination())
}

// placeAlone names the only file of a unit, which is safe without a look and
// without keeping others away; false where something is in the way.
func (u *Unit) placeAlone() (placed bool, err error) {
	if u.whole || len(u.items) != 1 || u.result[0].Action != Added {
		return false, nil
	}
	where := u.destination()
	at, err := where.spot(path.Dir(u.result[0].Path))
	if err != nil || at.dir == nil {
		return false, nil // the merge makes the folder, or says what is wrong
	}
	defer where.release(at)
	placed, err = u.loose.nameIn(u.number(0), at.dir, path.Base(u.result[0].Path))
	switch {
	case errors.Is(err, fs.ErrExist):
		return false, nil
	case err != nil:
		return false, fault.Writing(u.root.full(u.result[0].Path), err)
	}
	if placed {
		u.staged[0].Store(false)
	}
	return placed, nil
}

// attempts bounds how often a merge is begun again because somebody else puts
// files where it does.
const attempts = 5

// mergeInto finds out what is to become of each item and moves it there. What
// appears between the two is looked at as well.
func (u *Unit) mergeInto(where whereabouts) error {
	settled := slices.Clone(u.result) // of those that are skipped or lost for certain
	for range attempts {
		copy(u.result, settled)
		if err := u.survey(where); err != nil {
			return err
		}
		if err := u.merge(where); err == nil || !errors.Is(err, fs.ErrExist) || u.root.area.keep.Load() {
			return err
		}
	}
	return fault.At(u.root.full(u.folder), fault.New(fault.Refused, "something else writes to it at the same time").
		Advise("nothing of this archive was put into place; run it again"))
}

// Preview says what Commit would do, from what the archive says of its entries
// and from what is in the root, the units previewed before included.
func (u *Unit) Preview() ([]Result, error) {
	where := u.destination()
	if u.rules.Fresh && u.folder != "." {
		where.base = nil
	}
	if err := u.survey(where); err != nil {
		return nil, err
	}
	if err := u.findGone(); err != nil {
		return nil, fault.Writing(u.root.full(u.folder), err)
	}
	for i, r := range u.result {
		if r.Action == Added || r.Action == Replaced {
			u.root.planned[u.root.fold(r.Path)] = u.items[i].Entry
			for above := path.Dir(r.Path); above != "."; above = path.Dir(above) {
				key := u.root.fold(above)
				if _, known := u.root.planned[key]; known {
					break
				}
				u.root.planned[key] = archive.Entry{Path: above, Kind: archive.Folder}
			}
		}
	}
	return u.result, nil
}

// Gone lists what was in the folder that was swapped for a fresh one, or would be,
// and is not in that: absolute paths. It is nil without such a rule.
func (u *Unit) Gone() []string { return u.gone }

// findGone does so before the folder is swapped.
func (u *Unit) findGone() error {
	if !u.rules.Fresh || u.folder == "." || u.root.dest == nil {
		return nil
	}
	stays := map[string]bool{}
	for i := range u.items {
		if a := u.result[i].Action; a == Added || a == Replaced || a == Same {
			for at := u.within(i); at != "."; at = path.Dir(at) {
				stays[u.root.fold(at)] = true
			}
		}
	}
	old, err := u.root.dest.OpenRoot(u.folder)
	if err != nil {
		return ignoreMissing(err)
	}
	defer old.Close()
	return fs.WalkDir(old.FS(), ".", func(at string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) { // another run has just cleared it away
			return nil
		}
		if err == nil && d.IsDir() && strings.HasPrefix(d.Name(), prefix) && isAlive(old, at) {
			return fault.New(fault.Refused, "another run is at work in it").Advise("run it again when that has ended")
		}
		if err == nil && !d.IsDir() && !stays[u.root.fold(at)] {
			u.gone = append(u.gone, u.root.full(path.Join(u.folder, at)))
		}
		return err
	})
}

// commitFolder moves the unit's folder into place, or swaps it for the one
// that is there.
func (u *Unit) commitFolder() error {
	if err := finish(u.root.area.Root, u.made(u.id, func(string) bool { return true })); err != nil {
		return err
	}
	made, err := makeFolders(u.root.dest, path.Dir(u.folder))
	if err == nil {
		err = u.moveFolder()
	}
	if err != nil {
		removeFolders(u.root.dest, made)
	}
	return err
}

func (u *Unit) moveFolder() error {
	parent, name := u.root.home, path.Base(u.folder)
	if dir := path.Dir(u.folder); dir != "." {
		var err error
		if parent, err = folder.Open(u.root.dest, dir); err != nil {
			return err
		}
		defer parent.Close()
	}
	area := u.root.area
	identity := ""
	if u.rules.Fresh {
		var err error
		if identity, err = identityOf(area, u.id); err != nil {
			return err
		}
	}
	for range attempts {
		err := area.MoveTo(u.id, parent.Handle, name, false)
		if !u.rules.Fresh || !errors.Is(err, fs.ErrExist) {
			return err
		}
		err = area.Exchange(u.id, parent.Handle, name)
		switch {
		case err == nil:
			return u.letGoOf(u.id, parent, name, identity)
		case errors.Is(err, errors.ErrUnsupported):
			return u.swap(identity)
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
	}
	return fs.ErrExist
}

// identityOf is that of a folder.
func identityOf(area *area, name string) (string, error) {
	f, err := folder.Open(area.Root, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return f.Identity()
}

// swap puts the unit's folder, which has an identity, in place of another in two moves.
func (u *Unit) swap(identity string) error {
	area, where := u.root.area, u.destination()
	j := &journal{Moves: []move{{Staged: u.id, Target: u.folder, Kept: u.id + keptSuffix}}}
	if err := j.write(area, u.id); err != nil {
		return err
	}
	at, err := where.spot(path.Dir(u.folder))
	if err != nil {
		return err
	}
	defer where.release(at)
	if err := j.Moves[0].do(area.Folder, area.Folder, at.dir); err != nil {
		return errors.Join(err, u.takeBack(where, j, 0, true))
	}
	err = u.letGoOf(j.Moves[0].Kept, at.dir, path.Base(u.folder), identity)
	_ = j.remove(area, u.id) // what stays is removed with the area, which reports errors
	return err
}

// letGoOf lets go of the folder that was swapped for a new one, and lies in the area.
func (u *Unit) letGoOf(old string, to *folder.Folder, name, identity string) error {
	area := u.root.area
	kept, err := disposal.Swapped(area.Folder, old, to, name, identity)
	if kept {
		area.keep.Store(true)
		err = fault.At(filepath.Join(area.path, area.name), err)
	}
	return err
}

// made is a folder that a unit makes, with what the archive says of it.
type made struct {
	Path     string       `json:"path"` // below the root
	Mode     *fs.FileMode `json:"mode,omitempty"`
	Modified time.Time    `json:"modified,omitzero"`
}

// made lists the folders of the archive below a folder, the innermost first, of those that
// are wanted.
func (u *Unit) made(top string, wanted func(at string) bool) (list []made) {
	for i := range u.items {
		it := &u.items[i]
		if it.Kind != archive.Folder || it.Path == "." {
			continue
		}
		m := made{Path: path.Join(top, it.Path), Modified: it.Modified}
		if it.HasMode {
			m.Mode = &it.Mode
		}
		if wanted(m.Path) {
			list = append(list, m)
		}
	}
	slices.SortStableFunc(list, func(a, b made) int { return strings.Compare(b.Path, a.Path) })
	return list
}

// finish gives folders their permissions and times, after all that changes them.
func finish(base *os.Root, folders []made) error {
	for _, m := range folders {
		if m.Mode != nil {
			info, err := base.Lstat(m.Path)
			if err != nil {
				return err
			}
			// Its permissions are now all those that the system's mask allows.
			if err := base.Chmod(m.Path, info.Mode().Perm()&*m.Mode); err != nil {
				return err
			}
		}
		if !m.Modified.IsZero() {
			if err := folder.SetTime(base, m.Path, m.Modified); err != nil {
				return err
			}
		}
	}
	return nil
}
