package stage

import (
	"os"
	"path"
	"slices"
	"strings"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// ground is a folder that items go to: one below the root, or the new folder of
// a unit that is still in staging.
type ground struct {
	base   *os.Root
	home   *folder.Folder // an open handle on base itself, where there is one
	folder string
}

// destination is where the items go in the end.
func (d *delivery) destination() ground { return ground{d.site.dest, d.site.home, d.folder} }

// below joins two clean paths.
func below(folder, rel string) string {
	switch {
	case folder == ".":
		return rel
	case rel == ".":
		return folder
	}
	return folder + "/" + rel
}

// slot is the place that an item is meant for.
type slot struct {
	dir     *folder.Folder // nil: there is no such folder yet
	name    string
	blocked string // what stands where a folder would have to be, below the base
}

// eachSlot visits the items one folder after the other, in item order within
// each.
func (d *delivery) eachSlot(where ground, visit func(i int, at slot) error) error {
	order := make([]int, len(d.items))
	parents := make([]string, len(d.items))
	for i := range order {
		order[i], parents[i] = i, below(where.folder, path.Dir(d.items[i].Path))
	}
	slices.SortStableFunc(order, func(a, b int) int { return strings.Compare(parents[a], parents[b]) })
	var at slot
	defer func() { where.release(at) }()
	for n, i := range order {
		if n == 0 || parents[i] != parents[order[n-1]] {
			where.release(at)
			var err error
			if at, err = where.slot(parents[i]); err != nil {
				return fault.Writing(d.site.full(d.result[i].Path), err)
			}
		}
		at.name = path.Base(d.items[i].Path)
		if err := visit(i, at); err != nil {
			return err
		}
	}
	return nil
}

// slot opens a folder below the base.
func (g ground) slot(rel string) (slot, error) {
	switch {
	case g.base == nil:
		return slot{}, nil
	case rel == "." && g.home != nil:
		return slot{dir: g.home}, nil
	}
	dir, err := folder.Open(g.base, rel)
	if err == nil {
		return slot{dir: dir}, nil
	}
	for above := rel; above != "."; above = path.Dir(above) {
		if info, statErr := g.base.Stat(above); statErr == nil && !info.IsDir() {
			return slot{blocked: above}, nil
		}
	}
	return slot{}, ignoreMissing(err)
}

// release closes what slot has opened.
func (g ground) release(at slot) {
	if at.dir != nil && at.dir != g.home {
		at.dir.Close()
	}
}
