package undo

import (
	"cmp"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"widecrate/core/disposal"
	"widecrate/core/receipt"
)

// note takes note of the folders of an archive: those that its run made, and those of what was
// removed that lie in one.
func (t *taking) note(p *receipt.Past, dirs map[string]bool) {
	made := map[string]bool{}
	for _, dir := range p.Unit.Folders {
		made[filepath.Join(p.Unit.Root, filepath.FromSlash(dir))] = true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for dir := range made {
		t.made[dir] = true
	}
	for dir := range dirs {
		var chain []string
		for at := dir; at != filepath.Dir(at) && !t.empty[at]; at = filepath.Dir(at) {
			if chain = append(chain, at); !made[at] && !t.made[at] {
				continue
			}
			for _, in := range chain {
				t.empty[in] = true
			}
			chain = nil
		}
	}
}

// clear removes the folders that are empty now, and those that the archives had as such.
func (t *taking) clear() error {
	if err := t.clearEmpty(); err != nil {
		return err
	}
	for dir := range t.made {
		err := filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				t.empty[at] = true
			}
			return nil // what cannot be looked into stays
		})
		if err != nil {
			return err
		}
	}
	return t.clearEmpty()
}

func (t *taking) clearEmpty() error {
	maps.DeleteFunc(t.empty, func(dir string, _ bool) bool { return t.back[dir] })
	folders := slices.SortedFunc(maps.Keys(t.empty), func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) })
	return disposal.Empty(folders, "")
}
