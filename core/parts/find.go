package parts

import (
	"errors"
	"io"
	"slices"
	"sort"
	"strings"

	"github.com/maruel/natural"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/storage"
)

// member is a file whose name is that of a part.
type member struct {
	folder, name string
	role
	last bool // of a split ZIP archive: it is called like a whole one
}

func (m member) path() string { return storage.Join(m.folder, m.name) }

// A Lookup finds the sets of one file after the other. What is in a folder it
// lists once.
type Lookup struct {
	Sites   storage.Sites
	More    []string                             // folders in which parts may also lie
	Resolve func(path string) (blob.File, error) // finds a part; nil: that of Sites
	folders map[string]listing
}

// resolve is what lies at a path.
func (l *Lookup) resolve(path string) (blob.File, error) {
	if l.Resolve != nil {
		return l.Resolve(path)
	}
	return l.Sites.Resolve(path)
}

// part is what lies at a path, as a part.
func (l *Lookup) part(path string) Part {
	file, err := l.resolve(path)
	return partOf(path, file, err)
}

func partOf(path string, file blob.File, err error) Part {
	if err != nil || file.Info != nil && !file.Info.Mode().IsRegular() {
		return Part{File: blob.File{Path: path, Remote: file.Remote}, Err: unusable(path, file.Info, err)}
	}
	return Part{File: file}
}

// In sorts the names in a folder into sets and those that are no parts. Parts
// of a set of which one is there may also lie in the folders more. Files that
// are whole archives, each by itself, are no parts, whatever they are called.
// A folder that cannot be listed is of kind fault.Unreadable.
func (l *Lookup) In(folder string, names []string) (sets []*Set, rest []string, err error) {
	f := finder{Lookup: l, folder: folder, groups: map[string][]member{}}
	f.add(folder, names)
	for _, other := range l.More {
		names, err := l.Sites.List(other)
		if err != nil {
			return nil, nil, err
		}
		f.add(other, names)
	}
	f.assembleAll()
	slices.SortFunc(f.sets, func(a, b *Set) int { return natural.Compare(a.Path(), b.Path()) })
	return f.sets, f.rest, nil
}

// assembleAll makes sets of the groups of which one part is in the folder.
func (f *finder) assembleAll() {
	if len(f.groups) == 0 { // as in most folders
		f.alone(f.unsure...)
		return
	}
	slices.SortFunc(f.unsure, func(a, b member) int { return natural.Compare(a.name, b.name) })
	for _, m := range f.unsure {
		group := f.groups[m.key()]
		switch {
		case m.kind == Split && group != nil,
			m.kind == Lettered && slices.ContainsFunc(group, func(other member) bool { return other.token == before(m.token) }):
			f.groups[m.key()] = append(group, m)
		default:
			f.alone(m)
		}
	}
	for _, members := range f.groups {
		if slices.ContainsFunc(members, func(m member) bool { return m.folder == f.folder }) {
			f.divide(members, 0)
		}
	}
}

// At returns the set that a file is part of, there or missing; nil if there is none. Parts may also lie in the folders
// more.
func At(sites storage.Sites, path string, more []string) (*Set, error) {
	return (&Lookup{Sites: sites, More: more}).Of(path)
}

// listing has the names in a folder, sorted by what they are without letter case.
type listing []struct{ folded, name string }

func (l *Lookup) list(folder string) (listing, error) {
	if known, is := l.folders[folder]; is {
		return known, nil
	}
	names, err := l.Sites.List(folder)
	if err != nil {
		return nil, err
	}
	list := make(listing, len(names))
	for i, name := range names {
		list[i].folded, list[i].name = strings.ToLower(name), name
	}
	sort.Slice(list, func(i, j int) bool { return list[i].folded < list[j].folded })
	if l.folders == nil {
		l.folders = map[string]listing{}
	}
	l.folders[folder] = list
	return list, nil
}

// with lists the names that start like this.
func (l listing) with(prefix string) []string {
	prefix = strings.ToLower(prefix)
	var names []string
	for i := sort.Search(len(l), func(i int) bool { return l[i].folded >= prefix }); i < len(l) && strings.HasPrefix(l[i].folded, prefix); i++ {
		names = append(names, l[i].name)
	}
	return names
}

// Of is At.
func (l *Lookup) Of(path string) (*Set, error) {
	r, may := mayBe(storage.Base(path))
	if !may {
		return nil, nil
	}
	f := finder{Lookup: l, folder: storage.Dir(path), groups: map[string][]member{}}
	for _, folder := range append([]string{f.folder}, l.More...) {
		list, err := l.list(folder)
		if errors.Is(err, errors.ErrUnsupported) {
			return l.ask(path)
		}
		if err != nil {
			return nil, err
		}
		f.add(folder, list.with(r.before))
	}
	f.assembleAll()
	for _, s := range f.sets {
		if s.Has(path) {
			return s, nil
		}
	}
	return nil, nil
}

// Around returns the set that a file is taken for where a set is asked for: that
// of At or OfLast, or else the file itself as the only part, if it is called
// like a first one. Without any, the error is of kind fault.Unreadable.
func Around(sites storage.Sites, path string, more []string) (*Set, error) {
	l := &Lookup{Sites: sites, More: more}
	set, err := l.Of(path)
	if set == nil && err == nil {
		set, err = OfLast(sites, path)
	}
	if set != nil || err != nil {
		return set, err
	}
	alone := l.part(path)
	if r, is := roleOf(storage.Base(path)); is && alone.Info != nil {
		if at, ok := newSequence(r.kind, []string{r.token}).position(r.token); ok && at == 0 {
			return &Set{Name: r.whole, Kind: r.kind, Parts: []Part{alone}}, nil
		}
	}
	if _, err := sites.Lstat(path); err != nil {
		return nil, fault.Reading(path, err)
	}
	return nil, fault.At(path, fault.New(fault.Unreadable, "it is part of no set").Advise("widecrate parts scan shows the sets of a folder"))
}

// OfLast returns the set whose last part, called like a whole ZIP archive, is all
// that is known to be there; nil if it is no part.
func OfLast(sites storage.Sites, path string) (*Set, error) {
	if _, is := asLast(storage.Base(path)); !is {
		return nil, nil
	}
	l := &Lookup{Sites: sites}
	last := l.part(path)
	if last.Err != nil || last.Info == nil {
		return nil, nil // whoever asked says what is wrong with it
	}
	return l.split(path, segmentsOf(&last))
}

// OfSegments is OfLast of a file that is known to be the last of so many.
func OfSegments(sites storage.Sites, path string, segments int64) (*Set, error) {
	return (&Lookup{Sites: sites}).split(path, segments)
}

// mayBe is the role of a file whose name can be that of a part, be it only in
// certain company.
func mayBe(name string) (role, bool) {
	for _, read := range []func(string) (role, bool){roleOf, asLast, inLetters} {
		if r, is := read(name); is {
			return r, true
		}
	}
	return role{}, false
}

// asLast is the role that a file called like a whole ZIP archive may have: the
// last part of a split one.
func asLast(name string) (role, bool) {
	n := len(name) - len(".zip")
	if n < 1 || !strings.EqualFold(name[n:], ".zip") {
		return role{}, false
	}
	return role{kind: Split, before: name[:n+2], whole: name}, true
}

// Has reports whether a path is that of a part.
func (s *Set) Has(path string) bool {
	path = storage.Clean(path)
	return slices.ContainsFunc(s.Parts, func(p Part) bool { return p.Path == path })
}

// finder puts the files of folders into groups by their names, and makes sets of
// those.
type finder struct {
	*Lookup
	folder string
	groups map[string][]member
	unsure []member // parts only if the others of their set are there
	sets   []*Set
	rest   []string
}

func (f *finder) add(folder string, names []string) {
	for _, name := range names {
		m := member{folder: folder, name: name}
		var is bool
		if m.role, is = roleOf(name); is {
			f.groups[m.key()] = append(f.groups[m.key()], m)
			continue
		}
		if m.role, m.last = asLast(name); !m.last {
			if m.role, is = inLetters(name); !is {
				f.alone(m)
				continue
			}
		}
		f.unsure = append(f.unsure, m)
	}
}

func (f *finder) alone(members ...member) {
	for _, m := range members {
		if m.folder == f.folder {
			f.rest = append(f.rest, m.name)
		}
	}
}

// exactly are ever stricter ways to tell sets apart whose names are the same but
// for letter case, or for the width of their numbers.
var exactly = []func(member) string{
	func(member) string { return "" },
	func(m member) string {
		if m.kind == Split {
			return m.name[:len(m.before)-2]
		}
		return m.before + "\x00" + m.after
	},
	func(m member) string { return strings.Repeat(" ", len(m.token)) },
}

// divide makes one set of a group, or several where two files of it claim the
// same place.
func (f *finder) divide(members []member, level int) {
	var keys []string
	groups := map[string][]member{}
	for _, m := range members {
		key := exactly[level](m)
		if groups[key] == nil {
			keys = append(keys, key)
		}
		groups[key] = append(groups[key], m)
	}
	for _, key := range keys {
		if group := groups[key]; level+1 < len(exactly) && contested(group) {
			f.divide(group, level+1)
		} else {
			f.assemble(group)
		}
	}
}

func contested(members []member) bool {
	type claim struct{ folder, number string }
	seen := map[claim]bool{}
	for _, m := range members {
		c := claim{m.folder, strings.ToLower(strings.TrimLeft(m.token, "0"))}
		if seen[c] {
			return true
		}
		seen[c] = true
	}
	return false
}

// assemble makes a set of files, if they are one.
func (f *finder) assemble(members []member) {
	var tokens []string
	for _, m := range members {
		if !m.last {
			tokens = append(tokens, m.token)
		}
	}
	if tokens == nil {
		f.alone(members...)
		return
	}
	sample := members[slices.IndexFunc(members, func(m member) bool { return !m.last })]
	sequence := newSequence(sample.kind, tokens)
	if !sample.likely(sequence, tokens) {
		f.alone(members...)
		return
	}
	a := assembly{Set: &Set{Name: sample.whole, Kind: sample.kind, Total: sample.total}, Lookup: f.Lookup, sequence: sequence, sample: sample, placed: map[int]*Part{}}
	for _, m := range members {
		at, ok := sequence.position(m.token)
		switch {
		case m.last:
			last := f.part(m.path())
			if total := segmentsOf(&last); total == 1 || a.last != nil {
				f.alone(m) // a whole archive beside a set
			} else {
				a.last, a.Total, a.Name = &last, int(total), m.name
			}
		case !ok:
			f.alone(m)
		default:
			if a.placed[at] == nil { // what lies in the folder itself comes first
				part := f.part(m.path())
				a.placed[at] = &part
			}
		}
	}
	if sample.kind != Split && a.wholes() {
		f.alone(members...)
		return
	}
	f.sets = append(f.sets, a.build(f.folder))
}

// assembly is a set in the making.
type assembly struct {
	*Set
	*Lookup
	sequence
	sample member
	placed map[int]*Part
	last   *Part // of a split ZIP archive
}

// segmentsOf reads from the last part of a split ZIP archive how many there are;
// 0: it does not say.
func segmentsOf(last *Part) (n int64) {
	const most = 1 << 16
	last.look(func(file io.ReaderAt, size int64) bool { // what cannot be read is reported when it is needed
		if segments, err := zip.Segments(file, size); err == nil && segments < most {
			n = segments
		}
		return true
	})
	return n
}

// build puts the parts into order.
func (a *assembly) build(folder string) *Set {
	n := a.Total
	if a.Kind == Split {
		n--
	}
	for at := range a.placed {
		n = max(n, at+1)
	}
	missing := func(name string) Part { return Part{File: a.missing(folder, name)} }
	for at := range n {
		if part := a.placed[at]; part != nil {
			a.Parts = append(a.Parts, *part)
		} else {
			a.Parts = append(a.Parts, missing(a.sample.before+a.token(at)+a.sample.after))
		}
	}
	if a.Kind == Split {
		if a.last != nil {
			a.Parts = append(a.Parts, *a.last)
		} else {
			a.Parts = append(a.Parts, missing(a.Name))
		}
	}
	return a.Set
}

// Next is the name that a further part would have.
func (s *Set) Next() string {
	var tokens []string
	for _, p := range s.Parts {
		if r, ok := roleOf(storage.Base(p.Path)); ok {
			tokens = append(tokens, r.token)
		}
	}
	r, _ := roleOf(storage.Base(s.Parts[0].Path))
	return r.before + newSequence(s.Kind, tokens).token(len(s.Parts)) + r.after
}
