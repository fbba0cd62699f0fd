package crossed

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// The model says what docs/guide.md says: sequential, slow, on values.

// Model is what extract has to come to, for a destination and the words of a command line.
type Model struct {
	*Choice
	Out      Tree
	Code     int
	Archives map[string]*Outcome // by what they are called
	Perhaps  map[string]bool     // folders of what is lost, which may be there, empty

	failures []int
	halted   bool
}

// An Outcome is what became of one archive.
type Outcome struct {
	Code    int
	LeftOut map[string]int // by reason
	Done    []string       // entry, action and path of each file and link
}

// A Source is an archive where it is named, and the folder that its own folder lies in.
type Source struct {
	*Archive
	Called string
	Parent string // the folder that it lies in
	Root   string // what --into or its pair says
	Below  string // the folder below that which its own one goes to
}

// Extract unpacks sources into what is there.
func Extract(sources []Source, there Tree, words []string) *Model {
	m := &Model{Choice: choose(words), Out: Tree{}, Archives: map[string]*Outcome{}, Perhaps: map[string]bool{}}
	for at, thing := range there {
		m.Out.put(at, thing)
	}
	own := func(s Source) string {
		if m.of("layout", "own") == "shared" {
			return s.Root
		}
		return path.Join(s.Root, s.Below, m.ownName(path.Base(s.Name), path.Base(path.Join("/in", s.Parent))))
	}
	taken := map[string]int{}
	for _, s := range sources {
		if m.of("layout", "own") == "own" {
			taken[own(s)]++
		}
	}
	for _, s := range sources {
		if m.halted {
			break
		}
		if taken[own(s)] > 1 {
			m.fail(s.Called, 3)
			continue
		}
		m.unpack(s.Archive, s.Called, own(s), s.Root, 0)
	}
	if len(sources) > 0 && m.missed() && len(m.failures) == 0 { // else it may be in what could not be read
		m.failures = append(m.failures, 6)
	}
	kept, left := 0, 0
	for _, o := range m.Archives {
		kept += len(o.Done)
		for _, n := range o.LeftOut {
			left += n
		}
	}
	if len(m.failures) == 0 && kept == 0 && left > 0 {
		m.failures = []int{6}
	}
	m.Code = codeOf(m.failures)
	return m
}

func (m *Model) fail(called string, code int) {
	m.Archives[called] = &Outcome{Code: code}
	m.failures = append(m.failures, code)
	m.halted = m.halted || m.has("halt")
}

func (m *Model) ownName(name, parent string) string {
	return strings.NewReplacer("{stem}", stem(name), "{from}", parent).Replace(m.of("own-name", "{stem}"))
}

// item is an entry that is kept, where it goes below the folder of its archive.
type item struct {
	*Entry
	at    string
	thing Thing
	lost  bool // it is salvaged that there was one
}

// unpack deals with an archive that lies so many deep, and those inside it.
func (m *Model) unpack(a *Archive, called, folder, root string, depth int) {
	if a == nil || a.Damage == Junk || a.Damage == Cut { // a file that is only called like one, too
		m.fail(called, 7)
		return
	}
	var items, inner []item
	left, unsafe, refused, early, locked := map[string]int{}, false, false, false, false
	kept := map[string]bool{} // what hard links may lead to
	top := ""
	if m.of("layout", "own") == "auto" {
		if top = m.top(a); top != "" {
			folder = path.Join(path.Dir(folder), top)
		}
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		why, open := m.judge(e, depth)
		at := m.shape(e, stem(path.Base(a.Name)))
		if top != "" && at == top {
			at = ""
		} else if top != "" {
			at = strings.TrimPrefix(at, top+"/")
		}
		if why == "" && !open && (e.Kind == Symlink || e.Kind == Hardlink) {
			switch m.of("links", "keep") {
			case "skip":
				why = "link"
			case "refuse":
				refused = refused || at != ""
			}
		}
		unsafe = unsafe || why == "" && (strings.HasPrefix(e.Path, "..") || e.Kind == Hardlink && at != "" && strings.HasPrefix(e.Link, "..") && m.of("links", "keep") != "refuse")
		if why == "" && !open && at == "" {
			why = "no_path_left"
		}
		it := item{Entry: e, at: at, thing: Thing{e.Kind, e.Data, e.Time.Unix()}}
		switch {
		case open:
			if at == "" {
				it.at = path.Base(e.Path)
			}
			inner = append(inner, it)
			continue
		case why == "" && e.Kind == Folder:
			it.thing = Thing{Kind: Folder}
		case why == "" && e.Kind == Symlink:
			it.thing = Thing{Symlink, e.Link, e.Time.Unix()}
		case why == "" && e.Kind == Hardlink:
			for _, before := range a.Entries[:i] { // the last of that path
				if before.Path == e.Link {
					it.thing = Thing{File, before.Data, anyTime}
				}
			}
			if !kept[e.Link] && (a.Passes || !strings.HasSuffix(a.Name, ".tar")) { // what comes in order has passed by
				why = "link"
			}
		}
		early = early || why == "" && e.Kind == Symlink && !m.opens(a) // where it leads has to be read first
		if why != "" {
			if e.Kind != Folder {
				left[why]++
			}
			delete(kept, e.Path) // an earlier one of the path is not what links lead to now
			continue
		}
		kept[e.Path] = true
		items = append(items, it)
	}
	var done []string
	for _, it := range items {
		locked = locked || it.Kind == File && !m.opens(a) && !m.unread(it, folder)
	}
	broken := a.broken()
	at := slices.IndexFunc(items, func(it item) bool { return broken >= 0 && it.Entry == &a.Entries[broken] })
	unread := at >= 0 && m.unread(items[at], folder)
	switch {
	case unsafe:
		m.fail(called, 9)
		return
	case refused, !early && contradict(items):
		m.fail(called, 3)
		return
	case early:
		m.fail(called, 5)
		return
	case m.has("fresh") && len(items) == 0:
		m.fail(called, 6)
		return
	case locked:
		m.fail(called, 5)
	case at >= 0 && !unread && !m.has("salvage"):
		m.fail(called, 7)
	default:
		if at >= 0 && !unread {
			items[at].lost = true
			m.failures = append(m.failures, 7)
			for above := path.Dir(items[at].at); above != "."; above = path.Dir(above) {
				m.Perhaps[path.Join(folder, above)] = true
			}
			if !slices.ContainsFunc(items, func(it item) bool { return it.Kind != Folder && !it.lost }) {
				items = nil // no folder for nothing
			}
		}
		if done, refused = m.place(items, folder); refused {
			m.fail(called, 3)
		} else {
			m.Archives[called] = &Outcome{LeftOut: left, Done: done}
		}
	}
	for _, in := range inner {
		if m.halted {
			return
		}
		below := root
		if m.of("layout", "own") != "shared" {
			dir := path.Join(folder, path.Dir(in.at))
			below = path.Join(dir, m.ownName(path.Base(in.Path), path.Base(path.Join("/out", dir))))
		}
		if called := called + " › " + in.Path; m.opens(a) {
			m.unpack(in.Inner, called, below, root, depth+1)
		} else {
			m.fail(called, 5)
		}
	}
}

// unread reports whether an item is skipped for certain, and not looked at: what is there has
// another size, or there are other bytes where checksums are known.
func (m *Model) unread(it item, folder string) bool {
	there, taken := m.Out[path.Join(folder, it.at)]
	differs := there.Kind != File || len(there.Data) != len(it.Data) || there.Data != it.Data && it.Data == brokenText
	return m.of("clash", "refuse") == "skip" && !m.has("fresh") && taken && differs
}

// anyTime stands for a time that nothing says.
const anyTime = -1

// top is the one folder that all of an archive is in; empty: there is none.
func (m *Model) top(a *Archive) (top string) {
	for i := range a.Entries {
		e := &a.Entries[i]
		at := m.shape(&Entry{Path: e.Path, Kind: e.Kind}, "")
		if at == "" || path.Base(e.Path) == ".DS_Store" || strings.HasPrefix(e.Path, "..") {
			continue
		}
		first, _, below := strings.Cut(at, "/")
		if !below && e.Kind != Folder || top != "" && first != top {
			return ""
		}
		top = first
	}
	return top
}

// contradict reports whether one item would have to be a folder for another.
func contradict(items []item) bool {
	for i, it := range items {
		for _, other := range items[:i] {
			if other.at == it.at && (other.Kind == Folder) != (it.Kind == Folder) || other.Kind != Folder && strings.HasPrefix(it.at, other.at+"/") ||
				it.Kind != Folder && strings.HasPrefix(other.at, it.at+"/") {
				return true
			}
		}
	}
	return false
}

// place puts all items below a folder, and says what it did, or refuses all of them.
func (m *Model) place(items []item, folder string) (done []string, refused bool) {
	next := Tree{}
	for at, thing := range m.Out {
		if !m.has("fresh") || at != folder && !strings.HasPrefix(at, folder+"/") {
			next[at] = thing
		}
	}
	brought := map[string]int{} // the lines of done about what this archive put at a path
	for _, it := range items {
		at := path.Join(folder, it.at)
		if it.lost {
			done = append(done, fmt.Sprintf("%s lost %s", it.Path, at))
			continue
		}
		there, taken := next[at]
		blocked := false
		for above := path.Dir(at); above != "."; above = path.Dir(above) {
			if thing, there := next[above]; there && thing.Kind != Folder {
				blocked = true
			}
		}
		inTheWay := blocked || taken && (there.Kind == Folder) != (it.thing.Kind == Folder)
		equal := taken && !inTheWay && there.Kind == it.thing.Kind && there.Data == it.thing.Data
		action := "replaced"
		switch clash := m.of("clash", "refuse"); {
		case !taken && !blocked:
			action = "added"
		case equal:
			action = "same"
		case clash == "number" && !blocked:
			at, action = m.number(next, items, folder, it)
		case clash == "skip":
			action = "skipped"
		case inTheWay || clash == "refuse" || clash == "number":
			return nil, true
		case clash == "newer" && it.thing.Time <= there.Time+2:
			action = "skipped"
		}
		if action == "added" || action == "replaced" {
			next.put(at, it.thing)
		}
		if it.Kind == Folder {
			continue
		}
		if first, twice := brought[at]; twice && action == "replaced" { // the later one counts
			entry := strings.TrimSuffix(done[first], " "+at)
			space := strings.LastIndexByte(entry, ' ')
			action = entry[space+1:]
			done[first] = entry[:space] + " skipped " + at
		}
		if action == "added" || action == "replaced" {
			brought[at] = len(done)
		}
		done = append(done, fmt.Sprintf("%s %s %s", it.Path, action, at))
	}
	m.Out = next
	return done, false
}

// number finds the first name for an item that is free, or has the same.
func (m *Model) number(next Tree, items []item, folder string, it item) (at, action string) {
	dir, name := path.Split(it.at)
	for n := 2; ; n++ {
		to := dir + fmt.Sprintf("%s-%d%s", stem(name), n, name[len(stem(name)):])
		at = path.Join(folder, to)
		there, taken := next[at]
		switch {
		case slices.ContainsFunc(items, func(other item) bool { return other.at == to }):
		case !taken:
			return at, "added"
		case there.Kind == it.thing.Kind && there.Data == it.thing.Data:
			return at, "same"
		}
	}
}

// put adds a thing, with the folders that it needs.
func (t Tree) put(at string, thing Thing) {
	for above := path.Dir(at); above != "."; above = path.Dir(above) {
		if _, there := t[above]; !there {
			t[above] = Thing{Kind: Folder}
		}
	}
	t[at] = thing
}
