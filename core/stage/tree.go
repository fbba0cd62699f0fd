package stage

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// tree is a unit whose folder is new, or fresh: it is staged as it will be, and appears by one
// rename.
type tree struct{ *staging }

// begin makes the folders in staging.
func (t *tree) begin() error {
	u := t.staging
	u.tree = true
	if err := u.root.area.Mkdir(u.id, 0o777); err != nil {
		return err
	}
	wanted := map[string]string{} // by what is the same on this file system
	last := "."
	for i := range u.items {
		dir := u.items[i].Path
		if u.items[i].Kind != archive.Folder {
			dir = path.Dir(dir)
		}
		if dir == last {
			continue
		}
		for last = dir; dir != "."; dir = path.Dir(dir) {
			key := u.site.fold(dir)
			if _, known := wanted[key]; known {
				break
			}
			wanted[key] = dir
		}
	}
	return makeAll(u.root.area.Root, u.id, slices.Sorted(maps.Values(wanted)))
}

// Commit is that of Unit.
func (t *tree) Commit() ([]Result, error) { return t.committed(t.commit()) }

func (t *tree) commit() error {
	u := t.staging
	if err := u.linkAll(); err != nil {
		return err
	}
	if u.rules.Fresh {
		return u.commitFresh()
	}
	err := u.commitFolder()
	if err == nil || !errors.Is(err, fs.ErrExist) {
		return fault.Writing(u.site.full(u.folder), err)
	}
	if err = u.mergeThere(); err == nil { // the folder appeared while the archive was unpacked
		_ = t.Discard() // those that were skipped
	}
	return err
}

// Discard is that of Unit.
func (t *tree) Discard() error {
	return fault.Writing(t.site.path, t.root.area.Clear(t.id))
}

// commitFresh swaps the unit's folder for the one that is there.
func (u *staging) commitFresh() error {
	release, err := u.root.hold()
	if err != nil {
		return fault.Writing(u.site.path, err)
	}
	defer release()
	if err = u.findGone(); err == nil {
		err = u.commitFolder()
	}
	return fault.Writing(u.site.full(u.folder), err)
}

// commitFolder moves the unit's folder into place, or swaps it for the one
// that is there.
func (u *staging) commitFolder() error {
	if err := finish(u.root.area.Root, u.made(u.id, func(string) bool { return true })); err != nil {
		return err
	}
	err := folder.Again(func() error {
		made, err := folder.MakeBelow(u.site.dest, path.Dir(u.folder))
		if err == nil {
			err = u.moveFolder()
		}
		if err != nil {
			folder.RemoveBelow(u.site.dest, made)
			return err
		}
		u.anew = append(made, u.folder)
		return nil
	})
	if err != nil {
		u.keeper.Back()
		u.swapped = ""
		return err
	}
	u.keeper.Settled()
	return nil
}

func (u *staging) moveFolder() error {
	parent, name := u.site.home, path.Base(u.folder)
	if dir := path.Dir(u.folder); dir != "." {
		var err error
		if parent, err = folder.Open(u.site.dest, dir); err != nil {
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
		if err := u.keepSwapped(); err != nil {
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
func (u *staging) swap(identity string) error {
	area, where := u.root.area, u.destination()
	j := &journal{Moves: []move{{Staged: u.id, Target: u.folder, Kept: u.id + keptSuffix}}}
	if err := j.write(area, u.id); err != nil {
		return err
	}
	at, err := where.slot(path.Dir(u.folder))
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
func (u *staging) letGoOf(old string, to *folder.Folder, name, identity string) error {
	area := u.root.area
	kept, err := disposal.Swapped(area.Folder, old, to, name, identity)
	if kept {
		area.keep.Store(true)
		err = fault.At(filepath.Join(area.path, area.name), err)
	}
	return err
}

// makeAll makes those folders below top that are missing. They are sorted. It
// keeps the handles of the folders on the way: walking from the top to each
// would take time that grows with the square of the depth.
func makeAll(base *os.Root, top string, folders []string) error {
	if len(folders) == 0 {
		return nil
	}
	type level struct {
		path string
		root *os.Root
	}
	root, err := base.OpenRoot(top)
	if err != nil {
		return err
	}
	levels := []level{{".", root}}
	defer func() {
		for _, l := range levels {
			l.root.Close()
		}
	}()
	for _, dir := range folders {
		above := path.Dir(dir)
		in := &levels[len(levels)-1]
		for in.path != above && in.path != "." && !strings.HasPrefix(above, in.path+"/") {
			in.root.Close()
			levels = levels[:len(levels)-1]
			in = &levels[len(levels)-1]
		}
		if in.path != above {
			below := above
			if in.path != "." {
				below = above[len(in.path)+1:]
			}
			root, err := in.root.OpenRoot(below)
			if err != nil {
				return err
			}
			levels = append(levels, level{above, root})
			in = &levels[len(levels)-1]
		}
		if err := in.root.Mkdir(path.Base(dir), 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}
