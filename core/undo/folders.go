package undo

import (
	"cmp"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/receipt"
	"widecrate/core/storage"
)

func sorted[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// note takes note of the folders that an archive has made: those that its run names, and those on the way from
// them to its files.
func (t *taking) note(p *receipt.Past, all []file) {
	made := map[string]bool{}
	for _, dir := range p.Unit.Folders {
		made[filepath.Join(p.Unit.Root, filepath.FromSlash(dir))] = true
	}
	if p.Unit.Swapped != "" {
		made[p.Unit.Destination] = true
	}
	if len(made) == 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	maps.Copy(t.empty, made)
	for i := range all {
		t.between(filepath.Dir(all[i].at))
	}
	for dir := range made {
		t.between(filepath.Dir(dir))
	}
}

// between takes note of a folder, and of those above it, if one of them was made: then all below that are new.
func (t *taking) between(dir string) {
	var chain []string
	for ; dir != filepath.Dir(dir) && !t.empty[dir]; dir = filepath.Dir(dir) {
		chain = append(chain, dir)
	}
	for _, below := range chain {
		if t.empty[dir] {
			t.empty[below] = true
		}
	}
}

// clear removes the folders that are empty now.
func (t *taking) clear() error {
	t.leave()
	g := t.ground()
	defer t.done(g)
	maps.DeleteFunc(t.empty, func(dir string, _ bool) bool { return t.back[dir] })
	for _, dir := range slices.SortedFunc(maps.Keys(t.empty), func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) }) {
		if err := g.RemoveFolder(dir); err != nil {
			return err
		}
	}
	return nil
}

// swapped is a folder that is kept, and where it was.
type swapped struct {
	*disposal.Seen
	to string
}

// swapped are the folders of one that was swapped, as they are kept, each before those in it.
func (t *taking) swapped(g *disposal.Ground, p *receipt.Past) (folders []swapped, err error) {
	if p.Unit.Swapped == "" {
		return nil, nil
	}
	err = filepath.WalkDir(p.Unit.Swapped, func(at string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) { // it is back already
			return nil
		}
		if err != nil || !d.IsDir() {
			return fault.Reading(at, err)
		}
		seen, err := g.See(at)
		if err == nil {
			folders = append(folders, swapped{seen, filepath.Join(p.Unit.Destination, storage.Below(p.Unit.Swapped, at))})
		}
		return fault.Reading(at, err)
	})
	return folders, err
}

// unswap brings folders back, when what they held is: with their permissions and times.
func (t *taking) unswap(g *disposal.Ground, folders []swapped) error {
	if t.DryRun {
		return nil
	}
	for _, f := range folders {
		t.back[f.to] = true
		if err := g.MakeFolder(f.to); err != nil {
			return err
		}
	}
	for _, f := range slices.Backward(folders) {
		if err := errors.Join(g.Settle(f.to, f.Mode().Perm(), f), g.RemoveFolder(f.Path)); err != nil {
			return err
		}
	}
	return nil
}
