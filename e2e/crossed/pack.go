package crossed

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// epoch is the time of all that is packed with --reproducible.
var epoch = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// notModelled stands for an exit code where the model knows nothing: a link to a folder, or to
// nothing, is followed.
const notModelled = -1

// Create is what create packs of some sources, which are paths in a folder called src; nil where
// nothing is made.
func Create(src Tree, sources, words []string) (entries []Entry, left, code int) {
	c := choose(words)
	if c.has("reproducible") {
		defer func() {
			for i := range entries {
				entries[i].Time = epoch
			}
		}()
	}
	leadsOut := false
	came := map[string]string{} // from where a path comes: from two sources, a file may come once
	for _, source := range sources {
		for _, at := range sorted(src) {
			rel, in := strings.CutPrefix("/"+at, path.Join("/", source))
			if !in || rel != "" && rel[0] != '/' && source != "." {
				continue
			}
			e := entryOf(at, src[at])
			switch {
			case c.has("relative-to"):
			case c.of("top", "keep") == "drop" && (source == "." || src[source].Kind == Folder):
				e.Path = strings.TrimPrefix(rel, "/")
			default:
				e.Path = path.Join(path.Base(path.Join("src", source)), rel)
			}
			if e.Path == "" {
				continue
			}
			if e.Kind == Symlink {
				switch c.of("links", "keep") {
				case "skip":
					left++
					continue
				case "follow":
					to, there := src[path.Join(path.Dir(at), e.Link)]
					if !there || to.Kind != File {
						return nil, 0, notModelled
					}
					e.Kind, e.Data, e.Time, e.Link = File, to.Data, time.Unix(to.Time, 0), ""
				}
			}
			e.Path = path.Join(c.of("under", ""), e.Path)
			if came[e.Path] == at {
				continue
			}
			came[e.Path] = at
			if why, _ := c.judge(&e, 0); why == "" {
				entries = append(entries, e)
				leadsOut = leadsOut || e.Kind == Symlink && strings.HasPrefix(path.Join(path.Dir(e.Path), e.Link), "..")
			} else if e.Kind != Folder {
				left++
			}
		}
	}
	for _, option := range []string{"put", "text"} {
		if c.has(option) {
			entries = append(entries, asked(src, option, c.of(option, ""))) // whatever is selected
		}
	}
	if len(entries) == 0 {
		return nil, left, 6
	}
	if leadsOut || contradict(itemsOf(entries)) || twice(entries) {
		return nil, left, 3
	}
	if c.missed() || left > 0 && !holdsFiles(entries) { // what there is of it is packed
		code = 6
	}
	return entries, left, code
}

// asked is the entry that --put or --text adds.
func asked(src Tree, option, value string) Entry {
	before, after, _ := strings.Cut(value, "=")
	if option == "text" {
		return Entry{Path: before, Data: after, Time: time.Now()}
	}
	before = strings.TrimPrefix(before, "DIR/src/")
	e := entryOf(before, src[before])
	e.Path = after
	return e
}

func entryOf(at string, thing Thing) Entry {
	e := Entry{Path: at, from: at, Kind: thing.Kind, Data: thing.Data, Time: time.Unix(thing.Time, 0)}
	if thing.Kind == Symlink {
		e.Data, e.Link, e.Time = "", thing.Data, time.Now() // when it was made
	}
	return e
}

// tree is what entries become where nothing is in the way.
func tree(entries []Entry) Tree {
	t := Tree{}
	for _, e := range entries {
		thing := Thing{e.Kind, e.Data, e.Time.Unix()}
		switch e.Kind {
		case Folder:
			thing = Thing{Kind: Folder}
		case Symlink:
			thing = Thing{Kind: Symlink, Data: e.Link}
		}
		t.put(e.Path, thing)
	}
	return t
}

// Edit is what edit makes of entries.
func Edit(src Tree, entries []Entry, words []string) (after []Entry, code int) {
	c := choose(words)
	missing := false
	var added []Entry
	if c.has("add") {
		adding := slices.DeleteFunc(slices.Clone(words), func(word string) bool { return word == "--put" || word == "--text" })
		added, _, code = Create(src, []string{path.Clean("." + strings.TrimPrefix(c.of("add", ""), "DIR/src"))}, adding)
		if code == 3 { // it could not be unpacked
			return entries, 3
		}
	}
	for _, option := range []string{"put", "text"} {
		if c.has(option) {
			added = append(added, asked(src, option, c.of(option, "")))
		}
	}
	for _, e := range entries {
		if c.has("remove") && glob(c.of("remove", ""), e.Path) {
			continue
		}
		after = append(after, e)
	}
	if c.has("move") {
		from, to, _ := strings.Cut(c.of("move", ""), "=")
		moved := func(at string) string {
			if rest, is := strings.CutPrefix(at, from); is && (rest == "" || rest[0] == '/') {
				return to + rest
			}
			return at
		}
		missing = !slices.ContainsFunc(after, func(e Entry) bool {
			return moved(e.Path) != e.Path || e.Path == to || strings.HasPrefix(e.Path, to+"/")
		})
		for i := range after {
			e := &after[i]
			was := e.Path
			e.Path = moved(was)
			e.Link = relink(was, *e, func(at string) string {
				if slices.ContainsFunc(added, func(new Entry) bool { return new.Path == at }) {
					return at
				}
				return moved(at)
			})
		}
		if twice(after) {
			return entries, 3
		}
	}
	for _, e := range added {
		after = append(slices.DeleteFunc(after, func(old Entry) bool { return old.Path == e.Path }), e)
	}
	switch {
	case contradict(itemsOf(after)):
		return entries, 3
	case missing:
		return entries, 6
	}
	return after, 0
}

// holdsFiles reports whether there is more than folders.
func holdsFiles(entries []Entry) bool {
	return slices.ContainsFunc(entries, func(e Entry) bool { return e.Kind != Folder })
}

// twice reports whether two files or links have one path.
func twice(entries []Entry) bool {
	for i, e := range entries {
		for _, other := range entries[:i] {
			if e.Path == other.Path && e.Kind != Folder {
				return true
			}
		}
	}
	return false
}

func itemsOf(entries []Entry) (items []item) {
	for i := range entries {
		items = append(items, item{Entry: &entries[i], at: entries[i].Path})
	}
	return items
}

// relink is where a link leads that was at a path before, when goes says where what has a path
// goes; empty: nobody knows.
func relink(was string, e Entry, goes func(at string) string) string {
	target := path.Join(path.Dir(was), e.Link)
	if e.Kind != Symlink || target == "." || strings.HasPrefix(target, "..") {
		return e.Link
	}
	to := goes(target)
	if to == "" || path.Join(path.Dir(e.Path), e.Link) == to {
		return e.Link
	}
	return relative(path.Dir(e.Path), to)
}

// relative is a path as seen from a folder.
func relative(from, to string) string {
	a, b := strings.Split(path.Clean("/"+from), "/")[1:], strings.Split(path.Clean("/"+to), "/")[1:]
	if a[0] == "" {
		a = nil
	}
	for len(a) > 0 && len(b) > 1 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	return strings.Repeat("../", len(a)) + strings.Join(b, "/")
}

// Convert is what convert makes of an archive with a name.
func Convert(name string, entries []Entry, words []string) (after []Entry, code int) {
	c := choose(words)
	left, kept, leadsOut := 0, map[string]string{}, false
	goes := func(at string) string {
		to := kept[at]
		if !c.has("rename") {
			to = c.shape(&Entry{Path: at}, "")
		}
		if to == "" {
			return ""
		}
		return path.Join(c.of("under", ""), to)
	}
	for _, e := range entries {
		if why, _ := c.judge(&e, 0); why == "" {
			kept[e.Path] = c.shape(&e, stem(path.Base(name)))
		}
	}
	for _, e := range entries {
		why, _ := c.judge(&e, 0)
		at := c.shape(&e, stem(path.Base(name)))
		if why != "" || at == "" {
			if e.Kind != Folder {
				left++
			}
			continue
		}
		was := e.Path
		e.Path = path.Join(c.of("under", ""), at)
		link := e.Link
		e.Link = relink(was, e, goes)
		leadsOut = leadsOut || e.Kind == Symlink && !strings.HasPrefix(path.Join(path.Dir(was), link), "..") && strings.HasPrefix(path.Join(path.Dir(e.Path), e.Link), "..")
		after = append(after, e)
	}
	switch {
	case left > 0 && !holdsFiles(after):
		return nil, 6
	case leadsOut || contradict(itemsOf(after)) || twice(after):
		return nil, 3
	case c.missed(): // the rest is made
		code = 6
	}
	if after == nil {
		after = []Entry{}
	}
	return after, code
}

// sum adds two numbers.
func sum(a, b string) string {
	x, _ := strconv.Atoi(a)
	y, _ := strconv.Atoi(b)
	return strconv.Itoa(x + y)
}

// Compared is what compare counts.
type Compared struct{ Same, Different, OnlyA, OnlyB int }

// unwrap drops the one folder that all of a side lies in, where the two sides have nothing in
// common before, and something after.
func unwrap(a, b Tree) (Tree, Tree) {
	meet := func(a, b Tree) bool {
		return slices.ContainsFunc(sorted(a), func(at string) bool { return has(b, at) })
	}
	inner := func(t Tree) Tree {
		in, top := Tree{}, ""
		for _, at := range sorted(t) {
			first, rest, below := strings.Cut(at, "/")
			if !below || top != "" && top != first {
				return Tree{}
			}
			top, in[rest] = first, t[at]
		}
		return in
	}
	switch {
	case meet(a, b):
	case meet(inner(a), b):
		return inner(a), b
	case meet(a, inner(b)):
		return a, inner(b)
	}
	return a, b
}

// Compare compares what two sides hold.
func Compare(a, b []Entry, words []string) (Compared, int) {
	c := choose(words)
	clash := false // of two that get one path
	side := func(entries []Entry, peel string) Tree {
		t := Tree{}
		for _, e := range entries {
			why, _ := c.judge(&e, 0)
			at := choose([]string{"--peel", sum(c.of(peel, "0"), c.of("peel", "0"))}).shape(&e, "")
			if why == "" && at != "" && e.Kind != Folder {
				clash = clash || has(t, at)
				t[at] = tree([]Entry{e})[e.Path]
			}
		}
		return t
	}
	left, right := side(a, "peel-a"), side(b, "peel-b")
	if !c.has("peel") && !c.has("peel-a") && !c.has("peel-b") {
		left, right = unwrap(left, right)
	}
	var n Compared
	for at, thing := range left {
		other, there := right[at]
		late := thing.Time - other.Time
		switch {
		case !there:
			n.OnlyA++
		case thing.Kind != other.Kind || thing.Data != other.Data || c.has("times") && thing.Kind == File && (late > 2 || late < -2):
			n.Different++
		default:
			n.Same++
		}
	}
	n.OnlyB = len(right) - n.Same - n.Different
	switch {
	case clash:
		return Compared{}, 3
	case len(left)+len(right) == 0:
		return n, 6
	case n.Different+n.OnlyA+n.OnlyB > 0:
		return n, 1
	case c.missed():
		return n, 6
	}
	return n, 0
}
