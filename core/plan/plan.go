// Package plan decides, from what an archive says of its entries, what is to
// become of each: kept and where, left out and why, or opened itself. It is pure:
// it touches no disk, and what it decides is the same whether it is then done or
// only printed. What stands in the way on the disk is found by core/stage.
package plan

import (
	"path"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/stage"
	"widecrate/core/walk"
)

// Links says what happens to symbolic and hard links.
type Links uint8

// The rules for links.
const (
	KeepLinks   Links = iota // made, where they stay inside the archive's folder
	SkipLinks                // left out and counted
	RefuseLinks              // an archive with one is refused
	RebaseLinks              // made, absolute ones as below the archive's folder
)

// Rules are what a user asks for; zero values keep everything as it is.
type Rules struct {
	walk.Request
	Placement *place.Placement
	Counter   *place.Counter // of all archives, for new names; nil: there are none
	Links     Links
}

// A Plan is what is to become of the entries of one archive.
type Plan struct {
	Items   []stage.Item // to be staged, in the order of the archive
	Kept    []int        // the entry of each
	Spelt   map[int]bool // items whose path is spelt in another way; see place.Spelling
	Inner   []Inner      // archives to be opened, in the order of the archive
	Target  place.Target
	Entries int // files and links, other archives that are opened aside
	LeftOut choose.Tally
	Dates   choose.Window

	rules     *Rules
	spelling  *place.Spelling // nil: paths are spelt as they are
	depth     int
	in        Archive
	entries   []archive.Entry
	hardlinks map[int]int // items, and those that they are other names of
	data      map[int]int // of hard links to something that is not kept: the item, and the entry with the data
	copies    map[int]int // the same the other way round
	links     place.Hardlinks
	chosen    []int
}

// An Inner is an archive inside another.
type Inner struct {
	Index  int // of its entry
	Entry  archive.Entry
	Target place.Target
}

// An Archive is what a plan has to know of the archive as a whole.
type Archive interface {
	// Called is the name of an entry for people.
	Called(i int) string

	// Link returns where an entry, a symbolic link, leads to.
	Link(i int) (string, error)

	// AnyOrder reports whether the data of an entry that has passed by can still
	// be had.
	AnyOrder() bool
}

// New starts a plan for an archive that lies inside so many others.
func New(rules *Rules, depth int, in Archive) *Plan {
	return &Plan{rules: rules, depth: depth, in: in}
}

// A Verdict is what is to become of an entry, as far as it is known when it
// passes by.
type Verdict uint8

// The verdicts.
const (
	Leave Verdict = iota
	Keep
	Open // the entry is an archive, and to be opened itself
)

// Consider judges the next entry.
func (p *Plan) Consider(i int, e *archive.Entry) Verdict {
	verdict, open := p.rules.Judge(e, p.depth)
	if open {
		p.Inner = append(p.Inner, Inner{Index: i})
		p.chosen = append(p.chosen, i)
		return Open
	}
	p.rules.Selection.Note(&p.Dates, e, verdict)
	switch {
	case verdict != choose.Kept:
	case e.Kind > archive.Hardlink:
		verdict = choose.Special
	case p.rules.Links == SkipLinks && (e.Kind == archive.Symlink || e.Kind == archive.Hardlink):
		verdict = choose.Link
	}
	if e.Kind != archive.Folder {
		p.Entries++
		p.LeftOut[verdict]++
	}
	if verdict != choose.Kept {
		return Leave
	}
	p.chosen = append(p.chosen, i)
	return Keep
}

// Forget takes back that an entry is kept: the last one that was considered.
func (p *Plan) Forget() { p.chosen = p.chosen[:len(p.chosen)-1] }

// Place gives all that was kept its place below a target: n says what new names depend on.
// The entries are all that were considered; sizes of hard links are completed in them. Where
// names count, plans must come in the order of the archives. Paths and links that are unsafe
// are of kind fault.Unsafe.
func (p *Plan) Place(entries []archive.Entry, t place.Target, n place.Naming, budget *bound.Budget) error {
	p.entries, p.Target = entries, t
	p.rules.Selection.NoteNearest(entries)
	chosen := make([]*archive.Entry, len(p.chosen))
	for k, i := range p.chosen {
		chosen[k] = &entries[i]
	}
	if p.rules.Placement.Rename != nil {
		n.Counter, n.Aside = p.rules.Counter, p.aside()
	}
	paths, err := p.rules.Placement.Paths(chosen, n)
	if err != nil {
		return err
	}
	if p.rules.Placement.Layout == place.Auto {
		p.unwrap(paths)
	}
	spelt := p.spell(paths)
	if err := p.placeInner(spelt); err != nil {
		return err
	}
	p.Items, p.Kept = make([]stage.Item, 0, len(p.chosen)), make([]int, 0, len(p.chosen))
	for k, i := range p.chosen {
		if err := p.place(i, paths[k], spelt[k]); err != nil {
			return err
		}
	}
	return p.checkFolders(budget)
}

// aside reports which of those that were chosen become no files: archives that are opened, and
// links where they are left out.
func (p *Plan) aside() func(k int) bool {
	inner := map[int]bool{}
	for i := range p.Inner {
		inner[p.Inner[i].Index] = true
	}
	return func(k int) bool {
		i := p.chosen[k]
		kind := p.entries[i].Kind
		return inner[i] || p.rules.Links == SkipLinks && (kind == archive.Symlink || kind == archive.Hardlink)
	}
}

// unwrap makes the single top folder of an archive its own folder.
func (p *Plan) unwrap(paths []string) {
	top := p.rules.Placement.TopFolder(p.entries, choose.IsClutter)
	if top == "" {
		return
	}
	p.Target.Folder = p.rules.Placement.Names.Spell(path.Join(path.Dir(p.Target.Folder), top))
	for i, at := range paths {
		if at == top {
			paths[i] = "."
		} else if len(at) > len(top) && at[:len(top)] == top && at[len(top)] == '/' {
			paths[i] = at[len(top)+1:]
		}
	}
}

// spell returns paths as they are spelt on the disk.
func (p *Plan) spell(paths []string) []string {
	if p.rules.Placement.Names == place.AsIs {
		return paths
	}
	p.spelling = &place.Spelling{}
	spelt := make([]string, len(paths))
	for i, at := range paths {
		if spelt[i] = at; at != place.Peeled && at != "." {
			spelt[i] = p.spelling.Path(at)
		}
	}
	return spelt
}

// placeInner gives the archives inside this one their destinations.
func (p *Plan) placeInner(paths []string) (err error) {
	next := 0 // of the inner ones, which are in the order of the entries
	for k, i := range p.chosen {
		if next == len(p.Inner) || p.Inner[next].Index != i {
			continue
		}
		inner := &p.Inner[next]
		next++
		inner.Entry = p.entries[i]
		name := path.Base(inner.Entry.Path)
		at := paths[k]
		if at == place.Peeled {
			at = name
		}
		if inner.Target, err = p.rules.Placement.Inner(p.Target, at, name); err != nil {
			return fault.At(inner.Entry.Path, err)
		}
		paths[k] = opened
	}
	return nil
}

// opened takes the place of the path of an entry that is opened.
const opened = "\x00"

// place makes an item of an entry that has a path, stored, which is spelt at.
func (p *Plan) place(i int, stored, at string) error {
	e := &p.entries[i]
	switch {
	case at == place.Peeled && e.Kind != archive.Folder:
		p.leaveOut(choose.Pathless)
		return nil
	case at == place.Peeled, at == ".", at == opened:
		return nil
	}
	item := stage.Item{Entry: *e, Name: p.in.Called(i)}
	item.Path = at
	if e.Kind == archive.Symlink || e.Kind == archive.Hardlink {
		found, err := p.checkLink(i, stored, &item)
		if err != nil {
			return fault.At(item.Name, err)
		}
		if !found {
			p.leaveOut(choose.Link)
			return nil
		}
	}
	if stored != at {
		if p.Spelt == nil {
			p.Spelt = map[int]bool{}
		}
		p.Spelt[len(p.Items)] = true
	}
	p.Items, p.Kept = append(p.Items, item), append(p.Kept, i)
	return nil
}

// leaveOut counts something that was kept at first.
func (p *Plan) leaveOut(rule choose.Rule) {
	p.LeftOut[rule]++
	p.LeftOut[choose.Kept]--
}

// checkLink finds out where a link leads, before it becomes the next item. It is
// false for a hard link to something whose data cannot be had.
func (p *Plan) checkLink(i int, stored string, item *stage.Item) (found bool, err error) {
	if p.rules.Links == RefuseLinks {
		return false, fault.New(fault.Refused, "it is a link, and links are refused").Suggest(fault.SkipOrKeepLinks)
	}
	if item.Kind == archive.Hardlink {
		if found, err = p.resolve(i, item); err != nil || !found || item.Kind == archive.File {
			return found, err
		}
	} else if item.Link, err = p.in.Link(i); err != nil {
		return false, err
	}
	if p.rules.Links == RebaseLinks {
		item.Link = place.Rebase(item.Path, item.Link)
	}
	err = place.CheckLink(item.Path, item.Link)
	if err == nil && p.spelling != nil {
		item.Link = p.spelling.Link(stored, item.Link)
	}
	return true, err
}

// resolve makes of a hard link a second name of an item that is kept, or a copy of the data of
// an entry that is not. A symbolic link may have several names, too.
func (p *Plan) resolve(i int, item *stage.Item) (bool, error) {
	first, err := p.links.First(p.entries, i)
	if err != nil {
		return false, err
	}
	switch e := &p.entries[first]; e.Kind {
	case archive.Symlink:
		item.Kind = archive.Symlink
		item.Link, err = p.in.Link(first)
		return true, err
	case archive.File:
		item.Kind, item.Link = archive.File, ""
		item.Size = e.Size
		p.entries[i].Size = item.Size
	default: // a device or the like, which is left out itself
		return false, nil
	}
	k := len(p.Items)
	j, there := slices.BinarySearch(p.Kept, first)
	if !there {
		j, there = p.copies[first]
	}
	switch {
	case there:
		if p.hardlinks == nil {
			p.hardlinks = map[int]int{}
		}
		p.hardlinks[k] = j
		return true, nil
	case !p.in.AnyOrder():
		return false, nil
	}
	if p.data == nil {
		p.data, p.copies = map[int]int{}, map[int]int{}
	}
	p.data[k], p.copies[first] = first, k
	return true, nil
}

// LinkOf is the item to which item k is a hard link; false: item k is none.
func (p *Plan) LinkOf(k int) (to int, link bool) {
	to, link = p.hardlinks[k]
	return to, link
}

// FirstOf is the item that the k-th is a hard link to, or itself.
func (p *Plan) FirstOf(k int) int {
	if j, link := p.hardlinks[k]; link {
		return j
	}
	return k
}

// DataOf is the entry with the data of item k.
func (p *Plan) DataOf(k int) int {
	if i, other := p.data[k]; other {
		return i
	}
	return p.Kept[k]
}

// largestTree bounds the paths of all folders of an archive together, in bytes.
const largestTree = 256 << 20

// checkFolders counts folders that no entry stands for where they are more than
// the entries: a few long paths may ask for millions.
func (p *Plan) checkFolders(budget *bound.Budget) error {
	seen := map[string]bool{}
	size, last := 0, ""
	for i := range p.Items {
		dir := path.Dir(p.Items[i].Path)
		if dir == last {
			continue
		}
		for last = dir; dir != "." && !seen[dir]; dir = path.Dir(dir) {
			seen[dir] = true
			if size += len(dir); size > largestTree {
				return fault.New(fault.Unsafe, "its folders have paths of more than %d bytes together", largestTree)
			}
		}
	}
	return budget.Count(max(0, len(seen)-len(p.Items)))
}
