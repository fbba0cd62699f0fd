package stage

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/place"
)

// A Preview is a destination root that is only looked at: what would become of units there
// can be found out, and nothing is made or changed. A root that is missing is empty.
type Preview struct {
	site
	planned map[string]archive.Entry // what units before would have put there
}

// Look opens a root for a preview. Errors are of kind fault.Unwritable.
func Look(path string) (*Preview, error) {
	p := &Preview{site{path: path, folds: foldsCase(path, os.Lstat)}, map[string]archive.Entry{}}
	dest, err := os.OpenRoot(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fault.Writing(path, err)
	}
	p.dest = dest
	return p, nil
}

// Close lets go of the root.
func (p *Preview) Close() {
	if p.dest != nil {
		p.dest.Close() // read only: nothing can be lost
	}
}

// foldsCase finds out without writing whether the file system of a folder takes
// names for equal that differ in letter case: by the first name on the way to it
// that has letters. Where there is none, it is as is usual on the system.
func foldsCase(path string, lstat func(string) (fs.FileInfo, error)) bool {
	for dir := path; filepath.Dir(dir) != dir; dir = filepath.Dir(dir) {
		name := filepath.Base(dir)
		other := strings.ToUpper(name)
		if other == name {
			other = strings.ToLower(name)
		}
		there, err := lstat(dir)
		if other == name || err != nil {
			continue
		}
		twin, err := lstat(filepath.Join(filepath.Dir(dir), other))
		return err == nil && os.SameFile(there, twin)
	}
	return place.Folds
}

// A Foreseen is a unit that is not staged; see Unit.
type Foreseen struct {
	*delivery
	preview *Preview
}

// Begin starts a unit, as Root.Begin does.
func (p *Preview) Begin(folder string, items []Item, rules Rules) (*Foreseen, error) {
	d, _, err := newDelivery(&p.site, folder, items, rules)
	return &Foreseen{d, p}, err
}

// Results says what a commit would do, from what the archive says of its entries
// and from what is in the root, the units before included.
func (f *Foreseen) Results() ([]Result, error) {
	where := f.destination()
	if f.rules.Fresh && f.folder != "." {
		where.base = nil
	}
	s := &survey{delivery: f.delivery, where: where, contents: claims{f.delivery}, planned: f.preview.planned}
	if err := s.run(); err != nil {
		return nil, err
	}
	if err := f.findGone(); err != nil {
		return nil, fault.Writing(f.site.full(f.folder), err)
	}
	planned := f.preview.planned
	for i, r := range f.result {
		if r.Action == Added || r.Action == Replaced {
			planned[f.site.fold(r.Path)] = f.items[i].Entry
			for above := path.Dir(r.Path); above != "."; above = path.Dir(above) {
				key := f.site.fold(above)
				if _, known := planned[key]; known {
					break
				}
				planned[key] = archive.Entry{Path: above, Kind: archive.Folder}
			}
		}
	}
	return f.result, nil
}

// claims compares items by what the archive says of them.
type claims struct{ *delivery }

func (c claims) same(i int, at slot, there fs.FileInfo) (bool, error) {
	return c.sameAsClaimed(i, at, there)
}

func (c claims) equal(a, b int) (bool, error) {
	return claimEqual(&c.items[a].Entry, &c.items[b].Entry), nil
}

func (c claims) masked(perm fs.FileMode) fs.FileMode { return perm } // nothing is made that shows the mask
