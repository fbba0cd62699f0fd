package stage

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// makeTree makes the unit's folders in staging.
func (u *Unit) makeTree() error {
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
			key := u.root.fold(dir)
			if _, known := wanted[key]; known {
				break
			}
			wanted[key] = dir
		}
	}
	return makeAll(u.root.area.Root, u.id, slices.Sorted(maps.Values(wanted)))
}

// makeAll makes those folders below top that are missing. They are sorted. It
// keeps the handles of those that it is in: walking from the top to each
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

// whereabouts is a folder that items go to: one below the root, or the tree of
// a unit that is still in staging.
type whereabouts struct {
	base   *os.Root
	home   *folder.Folder // an open handle on base itself, where there is one
	folder string
}

func (u *Unit) destination() whereabouts {
	return whereabouts{u.root.dest, u.root.home, u.folder}
}

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

// spot is the place that an item is meant for.
type spot struct {
	dir     *folder.Folder // nil: there is no such folder yet
	name    string
	blocked string // what stands where a folder would have to be, below the base
}

// eachSpot visits the items one folder after the other, in item order within
// each.
func (u *Unit) eachSpot(where whereabouts, visit func(i int, at spot) error) error {
	order := make([]int, len(u.items))
	parents := make([]string, len(u.items))
	for i := range order {
		order[i], parents[i] = i, below(where.folder, path.Dir(u.items[i].Path))
	}
	slices.SortStableFunc(order, func(a, b int) int { return strings.Compare(parents[a], parents[b]) })
	var at spot
	defer func() { where.release(at) }()
	for n, i := range order {
		if n == 0 || parents[i] != parents[order[n-1]] {
			where.release(at)
			var err error
			if at, err = where.spot(parents[i]); err != nil {
				return fault.Writing(u.root.full(u.result[i].Path), err)
			}
		}
		at.name = path.Base(u.items[i].Path)
		if err := visit(i, at); err != nil {
			return err
		}
	}
	return nil
}

// spot opens a folder below the base.
func (w whereabouts) spot(rel string) (spot, error) {
	switch {
	case w.base == nil:
		return spot{}, nil
	case rel == "." && w.home != nil:
		return spot{dir: w.home}, nil
	}
	dir, err := folder.Open(w.base, rel)
	if err == nil {
		return spot{dir: dir}, nil
	}
	for above := rel; above != "."; above = path.Dir(above) {
		if info, statErr := w.base.Stat(above); statErr == nil && !info.IsDir() {
			return spot{blocked: above}, nil
		}
	}
	return spot{}, ignoreMissing(err)
}

// release closes what spot has opened.
func (w whereabouts) release(at spot) {
	if at.dir != nil && at.dir != w.home {
		at.dir.Close()
	}
}
