package disposal

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// A Keeper keeps what is about to be replaced: a second name of it, or where the file system has
// none, or is another, a copy. It is there before anything is replaced, whatever happens then. In the end, Settled or
// Back is to be called.
type Keeper struct {
	Folder string // empty: nothing is kept

	open *Ground
	kept []*Seen // since the last Settled or Back
}

// ground is where something in a folder is kept.
func (k *Keeper) ground(dir string) *Ground {
	if k.open == nil {
		k.open = NewGround(storage.Sites{}, []string{storage.Absolute(k.Folder)})
	}
	if dir = storage.Absolute(dir); !slices.Contains(k.open.roots, dir) {
		for _, left := range k.open.roots[1:] { // of the folders that things come from, the last one stays open
			k.open.leave(way{left, false})
		}
		k.open.roots = append(k.open.roots[:1], dir)
	}
	return k.open
}

// Keep keeps a file or link under a path below the folder, and returns where: under a number,
// where something has that path, be it another name of the same file.
func (k *Keeper) Keep(path, rel string) (string, error) {
	g := k.ground(filepath.Dir(path))
	seen, err := g.See(storage.Absolute(path))
	if err != nil {
		return "", fault.Reading(path, err)
	}
	target := filepath.Join(storage.Absolute(k.Folder), rel)
	for n := 1; ; n++ {
		to := filepath.Join(filepath.Dir(target), place.Numbered(filepath.Base(target), n))
		err := g.Second(seen, to)
		if err == nil {
			return to, k.keep(g, to)
		}
		if !isTaken(g, to, err) {
			return "", err
		}
	}
}

// isTaken reports whether something could not be kept because its path is taken.
func isTaken(g *Ground, path string, err error) bool {
	_, free := g.See(path)
	return errors.Is(err, fault.Refused) && free == nil
}

// keep takes note of what is kept.
func (k *Keeper) keep(g *Ground, path string) error {
	seen, err := g.See(path)
	if err != nil {
		return fault.Writing(path, err)
	}
	k.kept = append(k.kept, seen)
	return nil
}

// KeepAll keeps all that is in a folder, and returns where the folder is kept.
func (k *Keeper) KeepAll(path, rel string) (string, error) {
	g := k.ground(path)
	defer g.Close() // not every system moves a folder that is open
	top := ""
	for n := 1; top == ""; n++ {
		at := filepath.Join(storage.Absolute(k.Folder), filepath.Dir(rel), place.Numbered(filepath.Base(rel), n))
		if _, err := g.See(at); errors.Is(err, fs.ErrNotExist) {
			top = at
		} else if err != nil {
			return "", fault.Writing(at, err)
		}
	}
	var folders []*folder.Step
	err := folder.Walk(path, func(at *folder.Step) error {
		to := filepath.Join(top, at.Rel)
		switch {
		case at.Rel != "." && place.IsStaging(at.Name()):
			if at.IsDir() {
				return fs.SkipDir
			}
			return nil
		case at.IsDir():
			folders = append(folders, at)
			return g.MakeFolder(to)
		}
		from := filepath.Join(storage.Absolute(path), at.Rel)
		seen, err := g.See(from)
		if err != nil {
			return fault.Reading(from, err)
		}
		if err := g.Second(seen, to); err != nil {
			return err
		}
		return k.keep(g, to)
	})
	for _, f := range slices.Backward(folders) { // their owner can still take from them what is kept
		if err == nil {
			err = g.Settle(filepath.Join(top, f.Rel), f.Mode().Perm()|0o700, f)
		}
	}
	return top, err
}

// Settled is called when everything was replaced.
func (k *Keeper) Settled() {
	k.kept = nil
	if k.open != nil {
		k.open.Close()
		k.open = nil
	}
}

// Back lets go of what was kept, where nothing was replaced after all.
func (k *Keeper) Back() {
	g := k.ground(k.Folder)
	for _, seen := range k.kept {
		_ = g.TakeAway(seen) // it is still at its place
	}
	k.Settled()
}
