package crossed

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The model says what docs/guide.md says: sequential, slow, on values.

// Model is what extract has to come to, for a destination and the words of a command line.
type Model struct {
	Out  Tree
	Code int

	words    []string
	matched  map[string]bool // of --entry
	kept     int
	leftOut  int
	failures []int
	halted   bool
}

// has reports whether an option is given.
func (m *Model) has(option string) bool { return slices.Contains(m.words, "--"+option) }

// of is the value of an option; fallback where it is not given.
func (m *Model) of(option, fallback string) string {
	if i := slices.Index(m.words, "--"+option); i >= 0 {
		return m.words[i+1]
	}
	return fallback
}

// Extract unpacks archives into what is there.
func Extract(archives []*Archive, there Tree, words []string) *Model {
	m := &Model{Out: Tree{}, words: words, matched: map[string]bool{}}
	for at, thing := range there {
		m.Out.put(at, thing)
	}
	type source struct {
		*Archive
		own string
	}
	var sources []source
	taken := map[string]int{}
	for _, below := range []string{".", "s", "s/t"} { // a folder comes before those in it
		for _, a := range archives {
			if path.Dir(a.Name) != below || below != "." && !m.has("recursive") || !m.archive(a.Name) {
				continue
			}
			own := path.Join(below, m.ownName(path.Base(a.Name), path.Base(path.Join("/in", below))))
			switch m.of("layout", "own") {
			case "shared":
				own = "."
			case "own":
				taken[own]++
			}
			sources = append(sources, source{a, own})
		}
	}
	for _, s := range sources {
		if m.halted {
			break
		}
		if taken[s.own] > 1 {
			m.fail(3)
			continue
		}
		m.unpack(s.Archive, s.own, 0)
	}
	if entries := m.entries(); len(sources) > 0 {
		for _, entry := range entries {
			if !m.matched[entry] {
				m.failures = append(m.failures, 6)
				break
			}
		}
	}
	if len(m.failures) == 0 && m.kept == 0 && m.leftOut > 0 {
		m.failures = []int{6}
	}
	for i, code := range m.failures {
		if m.Code = code; code != m.failures[0] && i > 0 {
			m.Code = 1
			break
		}
	}
	return m
}

func (m *Model) fail(code int) {
	m.failures = append(m.failures, code)
	m.halted = m.halted || m.has("halt")
}

func (m *Model) ownName(name, parent string) string {
	return strings.NewReplacer("{stem}", stem(name), "{parent}", parent).Replace(m.of("own-name", "{stem}"))
}

// entries are the paths to the letter.
func (m *Model) entries() (list []string) {
	if m.has("entry") {
		list = append(list, m.of("entry", ""))
	}
	if m.has("entry-list") {
		list = append(list, "a.csv", "d/a.csv")
	}
	return list
}

// item is an entry that is kept, where it goes below the folder of its archive.
type item struct {
	*Entry
	at    string
	thing Thing
}

// unpack deals with an archive that lies so many deep, and those inside it.
func (m *Model) unpack(a *Archive, folder string, depth int) {
	if a == nil || a.Damage == Junk { // a file that is only called like one, too
		m.fail(7)
		return
	}
	var items []item
	var inner []item
	left, refused := 0, false
	kept := map[string]bool{} // what hard links may lead to
	top := ""
	if m.of("layout", "own") == "auto" {
		if top = m.top(a); top != "" {
			folder = path.Join(path.Dir(folder), top)
		}
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		open, keep := m.judge(e, depth)
		at := m.shape(e, stem(path.Base(a.Name)))
		if top != "" && at == top {
			at = ""
		} else if top != "" {
			at = strings.TrimPrefix(at, top+"/")
		}
		switch {
		case open:
			if at == "" {
				at = path.Base(e.Path)
			}
			inner = append(inner, item{Entry: e, at: at})
			continue
		case !keep:
			if e.Kind != Folder {
				left++
			}
			continue
		case e.Kind == Symlink || e.Kind == Hardlink:
			switch m.of("links", "keep") {
			case "skip":
				left++
				continue
			case "refuse":
				refused = refused || at != ""
			}
		}
		if at == "" {
			if e.Kind != Folder {
				left++
			}
			continue
		}
		it := item{Entry: e, at: at, thing: Thing{e.Kind, e.Data, e.Time.Unix()}}
		switch e.Kind {
		case Folder:
			it.thing = Thing{Kind: Folder}
		case Symlink:
			it.thing = Thing{Kind: Symlink, Data: e.Link}
		case Hardlink:
			first := a.Entries[slices.IndexFunc(a.Entries, func(other Entry) bool { return other.Path == e.Link })]
			if !kept[e.Link] && !strings.HasSuffix(a.Name, ".tar") { // what comes in order has passed by
				left++
				continue
			}
			it.thing = Thing{File, first.Data, anyTime}
		}
		kept[e.Path] = true
		items = append(items, it)
	}
	switch {
	case refused || contradict(items):
		m.fail(3)
		return
	case m.has("fresh") && len(items) == 0:
		m.fail(6)
		return
	case !m.place(items, folder):
		m.fail(3)
	default:
		m.leftOut += left
		m.kept += len(slices.DeleteFunc(slices.Clone(items), func(it item) bool { return it.Kind == Folder }))
	}
	for _, in := range inner {
		if m.halted {
			return
		}
		below := "."
		if m.of("layout", "own") != "shared" {
			dir := path.Join(folder, path.Dir(in.at))
			below = path.Join(dir, m.ownName(path.Base(in.Path), path.Base(path.Join("/out", dir))))
		}
		m.unpack(in.Inner, below, depth+1)
	}
}

// anyTime stands for a time that nothing says.
const anyTime = -1

// judge says whether an entry is an archive to be opened, or is kept.
func (m *Model) judge(e *Entry, depth int) (open, keep bool) {
	is := e.Kind == File && (m.has("archives") && m.archive(e.Path) || !m.has("archives") && e.Inner != nil)
	deepest, _ := strconv.Atoi(m.of("nested-depth", "3"))
	fold := func(s string) string { return s }
	if m.has("ignore-case") {
		fold = strings.ToLower
	}
	at := fold(e.Path)
	switch {
	case m.has("drop") && glob(fold(m.of("drop", "")), at):
		return false, false
	case m.has("no-clutter") && path.Base(e.Path) == ".DS_Store":
		return false, false
	}
	named := len(m.entries()) == 0 && !m.has("pick")
	for _, entry := range m.entries() {
		if fold(entry) == at {
			m.matched[entry], named = true, true
		}
	}
	named = named || m.has("pick") && glob(fold(m.of("pick", "")), at)
	if m.has("nested") && is && depth < deepest {
		return true, false
	}
	return false, named && m.narrow(e)
}

// narrow says whether an entry has the extension, size and time that are asked for.
func (m *Model) narrow(e *Entry) bool {
	narrows := false
	for _, option := range []string{"ext", "min-size", "max-size", "since", "until"} {
		narrows = narrows || m.has(option)
	}
	if narrows && e.Kind == Folder {
		return false
	}
	if m.has("ext") && !slices.ContainsFunc(strings.Split(m.of("ext", ""), ","), func(ext string) bool {
		return strings.HasSuffix(strings.ToLower(e.Path), "."+ext)
	}) {
		return false
	}
	size := len(e.Data)
	if least, _ := strconv.Atoi(m.of("min-size", "0")); size < least {
		return false
	}
	if most, err := strconv.Atoi(m.of("max-size", "")); err == nil && size > most {
		return false
	}
	const tolerance = 2 * time.Second
	if since, is := moment(m.of("since", ""), false); is && e.Time.Before(since.Add(-tolerance)) {
		return false
	}
	until, is := moment(m.of("until", ""), true)
	return !is || !e.Time.After(until.Add(tolerance))
}

// moment reads a date, or a date and time.
func moment(text string, end bool) (time.Time, bool) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, true
	}
	at, err := time.Parse(time.DateOnly, text)
	if end {
		at = at.Add(24*time.Hour - time.Second)
	}
	return at, err == nil
}

// top is the one folder that all of an archive is in; empty: there is none.
func (m *Model) top(a *Archive) (top string) {
	for i := range a.Entries {
		e := &a.Entries[i]
		at := m.shape(&Entry{Path: e.Path, Kind: e.Kind}, "")
		if at == "" || path.Base(e.Path) == ".DS_Store" {
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

// shape is the path that an entry gets below the folder, in an archive of this name; empty: none
// is left.
func (m *Model) shape(e *Entry, archive string) string {
	names := strings.Split(e.Path, "/")
	peel, _ := strconv.Atoi(m.of("peel", "0"))
	if len(names) <= peel {
		return ""
	}
	names = names[peel:]
	if m.has("flatten") {
		if e.Kind == Folder {
			return ""
		}
		names = names[len(names)-1:]
	}
	if last := len(names) - 1; e.Kind != Folder && archive != "" {
		name := names[last]
		names[last] = strings.NewReplacer("{name}", name, "{stem}", stem(name), "{ext}", name[len(stem(name)):], "{archive}", archive).Replace(m.of("rename", "{name}"))
	}
	return strings.Join(names, "/")
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

// place puts all items below a folder, or none.
func (m *Model) place(items []item, folder string) bool {
	next := Tree{}
	for at, thing := range m.Out {
		if !m.has("fresh") || at != folder && !strings.HasPrefix(at, folder+"/") {
			next[at] = thing
		}
	}
	own := map[string]bool{} // what items of this archive brought
	for _, it := range items {
		at := path.Join(folder, it.at)
		there, taken := next[at]
		blocked := false
		for above := path.Dir(at); above != "."; above = path.Dir(above) {
			if thing, there := next[above]; there && thing.Kind != Folder {
				blocked = true
			}
		}
		inTheWay := blocked || taken && (there.Kind == Folder) != (it.thing.Kind == Folder)
		equal := taken && !inTheWay && there.Kind == it.thing.Kind && there.Data == it.thing.Data
		switch clash := m.of("clash", "refuse"); {
		case !taken && !blocked:
			next.put(at, it.thing)
			own[at] = true
		case equal:
		case clash == "number" && !blocked:
			m.number(next, items, folder, it)
		case clash == "skip":
		case inTheWay || clash == "refuse" || clash == "number":
			return false
		case clash == "newer" && it.thing.Time <= there.Time+2:
		default:
			next.put(at, it.thing)
		}
	}
	m.Out = next
	return true
}

// number puts an item under the first name that is free.
func (m *Model) number(next Tree, items []item, folder string, it item) {
	dir, name := path.Split(it.at)
	for n := 2; ; n++ {
		to := dir + fmt.Sprintf("%s-%d%s", stem(name), n, name[len(stem(name)):])
		if slices.ContainsFunc(items, func(other item) bool { return other.at == to }) {
			continue
		}
		at := path.Join(folder, to)
		there, taken := next[at]
		if !taken || there.Kind == it.thing.Kind && there.Data == it.thing.Data {
			if !taken {
				next.put(at, it.thing)
			}
			return
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

// archiveName matches the names of archives.
var archiveName = regexp.MustCompile(`(?i)\.(tar\.(gz|zst|xz|bz2|lz4)|tgz|tar|zip)$`)

// stem is a name without its extension.
func stem(name string) string {
	if at := archiveName.FindStringIndex(name); at != nil && at[0] > 0 {
		return name[:at[0]]
	}
	if short := strings.TrimSuffix(name, path.Ext(name)); short != "" {
		return short
	}
	return name
}

// archive reports whether a file is taken for an archive by --archives.
func (m *Model) archive(at string) bool {
	pattern := m.of("archives", "**/*")
	if !strings.Contains(pattern, "/") {
		at = path.Base(at)
	}
	return wild(pattern, "").MatchString(at)
}

// glob reports whether a pattern matches a path, one of its names, or a folder above it.
func glob(pattern, at string) bool {
	if !strings.Contains(pattern, "/") {
		return slices.ContainsFunc(strings.Split(at, "/"), func(name string) bool {
			is, _ := path.Match(pattern, name)
			return is
		})
	}
	return wild(pattern, `(/.*)?`).MatchString(at)
}

// wild is a pattern as an expression, for a whole path with something behind it.
func wild(pattern, behind string) *regexp.Regexp {
	text := regexp.QuoteMeta(pattern)
	text = strings.ReplaceAll(text, `/\*\*`, `(/.*)?`)
	text = strings.ReplaceAll(text, `\*\*/`, `(.*/)?`)
	text = strings.ReplaceAll(text, `\*`, `[^/]*`)
	return regexp.MustCompile(`^` + text + behind + `$`)
}
