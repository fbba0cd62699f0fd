package stage

import (
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/place"
)

// Clash says what happens to an item whose path is taken by something else.
// Equal bytes are no clash.
type Clash uint8

// The clash rules.
const (
	Refuse  Clash = iota // nothing of the unit is put into place
	Skip                 // what is there stays
	Replace              // the item takes its place
	Newer                // the one with the later time stays
	Number               // both stay: the item becomes name-2.ext
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

// survey finds out what is to become of each item, by the clash rule, before
// anything is moved.
type survey struct {
	*delivery
	where    ground
	contents contents
	planned  map[string]archive.Entry // what units before would have put there, of a preview
	first    map[string]int           // items by the path that they get
	clashes  []Clashing
}

// contents are how items are compared: by their data, or by what the archive says of them.
type contents interface {
	// same reports whether item i is what is there.
	same(i int, at slot, there fs.FileInfo) (bool, error)

	// equal reports whether two items that go to the same path are the same.
	equal(a, b int) (bool, error)

	// masked are the permissions that a file gets that is made with some.
	masked(perm fs.FileMode) fs.FileMode
}

func (s *survey) run() error {
	s.first = map[string]int{}
	if err := s.eachSlot(s.where, s.judge); err != nil {
		return err
	}
	if s.clashes != nil {
		return fault.New(fault.Refused, "%w", &ClashError{s.clashes}).
			Suggest(fault.SettleClashes)
	}
	return nil
}

// judge decides about one item.
func (s *survey) judge(i int, at slot) error {
	it, r := &s.items[i], &s.result[i]
	if r.Action == Skipped || r.Action == Lost {
		return nil
	}
	if it.Kind == archive.Symlink {
		if err := s.checkLink(it); err != nil {
			return fault.At(s.site.full(r.Path), err)
		}
	}
	found, err := s.lookUp(i, it.Path, at)
	if err != nil {
		return fault.Writing(s.site.full(r.Path), err)
	}
	if s.rules.Clash == Number && at.blocked == "" && found.what != nothing && !found.equal {
		return s.number(i, at)
	}
	r.Action = s.ruling(it, found)
	r.Mode = r.Action == Same && found.mode
	switch {
	case r.Action == Replaced && found.item < 0:
		err = s.rules.Needs.Replace(s.site.full(r.Path))
	case r.Action == Added && it.Kind != archive.Folder:
		err = s.rules.Needs.Make(s.site.full(r.Path))
	}
	if err != nil {
		return err
	}
	switch r.Action {
	case clashing:
		s.clash(i, at, found)
		return nil
	case Skipped:
		return nil
	case Replaced:
		if found.item >= 0 { // its place is this one's now
			if s.result[found.item].Action == Added {
				r.Action = Added
			}
			s.result[found.item].Action = Skipped
		}
	}
	if r.Action != Same || found.item < 0 {
		s.first[s.site.fold(it.Path)] = i
	}
	return nil
}

// ruling is what the clash rule says about an item and what stands at its place.
func (s *survey) ruling(it *Item, found occupant) Action {
	later := it.Modified.Sub(found.modified) > tolerance
	switch clash := s.rules.Clash; {
	case found.what == nothing:
		return Added
	case found.equal:
		return Same
	case found.what == inTheWay && clash != Skip:
		return clashing
	case clash == Skip, clash == Newer && !later:
		return Skipped
	case clash == Replace, clash == Newer:
		return Replaced
	}
	return clashing
}

// tolerance is how far apart times count as the same: some archives and file
// systems keep only every second second.
const tolerance = 2 * time.Second

func (s *survey) clash(i int, at slot, found occupant) {
	s.result[i].Action = clashing
	c := Clashing{Path: s.site.full(s.result[i].Path), Entry: s.items[i].Name, InTheWay: found.what == inTheWay}
	if at.blocked != "" {
		c.Path = s.site.full(at.blocked)
	}
	if found.item >= 0 {
		c.Other = s.items[found.item].Name
	}
	s.clashes = append(s.clashes, c)
}

// number finds a free name for an item: name-2.ext, name-3.ext … A name at
// which the item already lies is the one of an earlier run.
func (s *survey) number(i int, at slot) error {
	it := &s.items[i]
	dir, name := path.Split(it.Path)
	for n := 2; ; n++ {
		at.name = place.Numbered(name, n)
		to := dir + at.name
		if s.taken[s.site.fold(to)] {
			continue
		}
		found, err := s.lookUp(i, to, at)
		if err != nil {
			return fault.Writing(s.site.full(s.result[i].Path), err)
		}
		if found.what != nothing && !found.equal {
			continue
		}
		s.result[i].Path = path.Join(s.folder, to)
		if found.what == nothing {
			s.first[s.site.fold(to)] = i
			s.result[i].Action = Added
		} else {
			s.result[i].Action = Same
		}
		return nil
	}
}

// occupant is what stands at an item's place.
type occupant struct {
	what     presence
	item     int  // of the same unit; -1: it is on disk, or planned by another unit
	equal    bool // to the item
	mode     bool // on disk it has other permissions
	modified time.Time
}

type presence uint8

const (
	nothing presence = iota
	something
	inTheWay // a folder for a file, or the other way round: never replaced
)

// lookUp finds what stands at the path that item i is to get.
func (s *survey) lookUp(i int, to string, at slot) (occupant, error) {
	it := &s.items[i]
	found := occupant{item: -1}
	if at.blocked != "" {
		found.what = inTheWay
		return found, nil
	}
	if earlier, taken := s.first[s.site.fold(to)]; taken {
		var err error
		found.what, found.item, found.modified = something, earlier, s.items[earlier].Modified
		if it.Kind == archive.Folder { // checkKinds: then both are
			found.equal = true
		} else {
			found.equal, err = s.contents.equal(earlier, i)
		}
		return found, err
	}
	if found, planned := s.lookUpPlanned(it, path.Join(s.folder, to)); planned {
		return found, nil
	}
	if at.dir == nil || at.dir.Free(at.name) {
		return found, nil
	}
	there, err := at.dir.Lstat(at.name)
	if err != nil {
		return found, ignoreMissing(err)
	}
	if it.Kind == archive.Folder && there.Mode()&fs.ModeSymlink != 0 {
		if there, err = at.dir.Stat(at.name); err != nil {
			found.what = inTheWay
			return found, nil
		}
	}
	found.what, found.modified = something, there.ModTime()
	switch {
	case there.IsDir() != (it.Kind == archive.Folder):
		found.what = inTheWay
	case there.IsDir():
		found.equal = true
	default:
		found.equal, err = s.contents.same(i, at, there)
		found.mode = it.Kind == archive.File && it.HasMode && there.Mode().Perm() != s.contents.masked(it.perm())
	}
	return found, err
}

// lookUpPlanned finds what an earlier unit of a preview would put at a path, or above it.
func (s *survey) lookUpPlanned(it *Item, to string) (found occupant, planned bool) {
	found = occupant{item: -1, what: something}
	if there, ok := s.planned[s.site.fold(to)]; ok {
		found.modified = there.Modified
		switch folder := there.Kind == archive.Folder; {
		case folder != (it.Kind == archive.Folder):
			found.what = inTheWay
		case folder:
			found.equal = true
		default:
			found.equal = claimEqual(&there, &it.Entry)
		}
		return found, true
	}
	for above := path.Dir(to); above != "." && len(s.planned) > 0; above = path.Dir(above) {
		if there, ok := s.planned[s.site.fold(above)]; ok {
			found.what = inTheWay
			return found, there.Kind != archive.Folder
		}
	}
	return found, false
}

// sameAsClaimed compares what the archive says of an item with what is there.
// Where it says nothing that a file could be compared by, they may be the same.
func (d *delivery) sameAsClaimed(i int, at slot, there fs.FileInfo) (bool, error) {
	it := &d.items[i]
	switch {
	case it.Kind == archive.Symlink:
		if there.Mode()&fs.ModeSymlink == 0 {
			return false, nil
		}
		target, err := at.dir.Readlink(at.name)
		return target == it.Link, err
	case !there.Mode().IsRegular() || it.Size != archive.Unknown && there.Size() != it.Size:
		return false, nil
	case !it.HasCRC32:
		return true, nil
	}
	theirs, err := at.dir.Open(at.name)
	if err != nil {
		return false, err
	}
	defer theirs.Close()
	sum := crc32.NewIEEE()
	_, err = io.Copy(sum, theirs)
	return sum.Sum32() == it.CRC32, err
}

func claimEqual(a, b *archive.Entry) bool {
	if a.Kind == archive.Symlink {
		return b.Kind == archive.Symlink && a.Link == b.Link
	}
	return a.Kind == b.Kind && a.Size == b.Size && a.CRC32 == b.CRC32 && a.HasCRC32 && b.HasCRC32
}
