package source

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/parts"
)

// series is a name with a number in it: the archives of such names belong
// together.
type series struct {
	pattern       string // "suite-{n}.tar"
	before, after string
	name          *regexp.Regexp
}

func (f *finder) readSeries() error {
	for _, pattern := range f.Series {
		before, after, found := strings.Cut(pattern, "{n}")
		if !found || strings.ContainsAny(pattern, `/\`) || strings.Contains(after, "{n}") {
			return fault.New(fault.Usage, "the series %q is no name with one {n} in it", pattern).Advise(`a series is a file name such as "suite-{n}.tar"`)
		}
		name := regexp.MustCompile("^" + regexp.QuoteMeta(before) + `(\d{1,6})` + regexp.QuoteMeta(after) + "$")
		f.series = append(f.series, series{pattern, before, after, name})
	}
	return nil
}

// called is what the whole of a series in a folder is called.
func (s series) called(folder string) string {
	if name := strings.TrimRight(s.before, " ._-"); name != "" {
		return name + s.after
	}
	return filepath.Base(folder) + s.after
}

func (f *finder) inAnySeries(name string) bool {
	return slices.ContainsFunc(f.series, func(s series) bool { return s.name.MatchString(name) })
}

// numbered is a member of a series.
type numbered struct {
	Source
	number int
}

// inSeries puts the members of each series together, in the place of the first.
func (f *finder) inSeries() ([]Source, error) {
	type key struct {
		series            int
		folder, sub, into string
	}
	places := map[key]int{}
	members := map[int][]numbered{} // by the place of their series
	var sources []Source
	for _, s := range f.found {
		i := slices.IndexFunc(f.series, func(of series) bool { return of.name.MatchString(s.Name()) })
		if i < 0 {
			sources = append(sources, s)
			continue
		}
		of, k := f.series[i], key{i, filepath.Dir(s.Path), s.Sub, s.Into}
		at, known := places[k]
		if !known {
			at = len(sources)
			places[k] = at
			sources = append(sources, Source{Path: filepath.Join(k.folder, of.pattern), Sub: s.Sub, Into: s.Into, called: of.called(k.folder)})
		}
		number, _ := strconv.Atoi(of.name.FindStringSubmatch(s.Name())[1]) // a few digits
		members[at] = append(members[at], numbered{s, number})
	}
	found := map[int]bool{}
	for k, at := range places {
		found[k.series] = true
		sources[at].setMembers(members[at], f.AllowGaps, f.series[k.series])
	}
	for i, s := range f.series {
		if !found[i] {
			return nil, fault.New(fault.NoMatch, "no archive is called like the series %s", s.pattern).Advise("check the name, and the folder that is looked in")
		}
	}
	return sources, nil
}

// setMembers puts the members into the order of their numbers, which start at 0
// or 1. A gap, and a number that is there twice, is of kind fault.Incomplete.
func (s *Source) setMembers(members []numbered, allowGaps bool, of series) {
	slices.SortStableFunc(members, func(a, b numbered) int { return a.number - b.number })
	var missing []string
	wrong := func(err error) {
		if s.Err == nil && err != nil {
			s.Err = err
		}
	}
	next := min(members[0].number, 1)
	for _, m := range members {
		s.Members = append(s.Members, m.Source)
		wrong(m.Err)
		if m.number < next {
			wrong(fault.At(s.Path, fault.New(fault.Incomplete, "two of the series have the number %d, %s is one of them", m.number, m.Name())))
		}
		for ; next < m.number; next++ {
			missing = append(missing, fmt.Sprintf("%s%d%s", of.before, next, of.after))
		}
		next = m.number + 1
	}
	if missing != nil && !allowGaps {
		wrong(fault.At(s.Path, fault.New(fault.Incomplete, "%d of the series missing: %s", len(missing), parts.Shorten(missing)).
			Advise("fetch what is missing, or take what is there with --allow-gaps")))
	}
}

// openSeries opens the members of a series as one archive. It comes in order if
// one of them does.
func (s Source) openSeries(o archive.Options) (*Archive, error) {
	a := &Archive{rules: o, close: func() error { return nil }}
	a.users.Store(1)
	ordered := false
	var opened []*Archive
	closeAll := func() error {
		var errs []error
		for _, m := range opened {
			errs = append(errs, m.Close())
		}
		return errors.Join(errs...)
	}
	formats := map[string]bool{}
	for _, source := range s.Members {
		m, err := source.Open(o)
		if err != nil {
			closeAll()
			return nil, fault.At(source.Name(), err)
		}
		opened = append(opened, m)
		a.Size += m.Size
		a.Files = append(a.Files, m.Files...)
		a.members = append(a.members, source.Name())
		a.Format = m.Format
		formats[m.Format] = true
		ordered = ordered || m.Reader == nil
	}
	if len(formats) > 1 {
		a.Format = "mixed"
	}
	a.close = closeAll
	if ordered {
		a.Stream = &seriesStream{a: a, opened: opened, at: -1}
		return a, nil
	}
	r := &seriesReader{opened: opened}
	for i, m := range opened {
		a.starts = append(a.starts, len(r.entries))
		r.entries = append(r.entries, m.Entries()...)
		r.broken = errors.Join(r.broken, fault.At(a.members[i], archive.Broken(m.Reader)))
		for _, remark := range archive.Remarks(m.Reader) {
			r.remarks = append(r.remarks, a.members[i]+": "+remark)
		}
	}
	r.starts = a.starts
	a.Reader = r
	return a, nil
}

// seriesReader is a series whose members have directories.
type seriesReader struct {
	opened  []*Archive
	entries []archive.Entry
	starts  []int // of each member's entries
	broken  error
	remarks []string
}

func (r *seriesReader) Entries() []archive.Entry { return r.entries }
func (r *seriesReader) Broken() error            { return r.broken }
func (r *seriesReader) Remarks() []string        { return r.remarks }
func (r *seriesReader) Close() error             { return nil } // the members are closed by their archive

func (r *seriesReader) Open(i int) (io.ReadCloser, error) {
	m := memberAt(r.starts, i)
	return r.opened[m].Open(i - r.starts[m])
}

// memberAt tells in which member an entry is.
func memberAt(starts []int, entry int) int {
	return sort.Search(len(starts), func(m int) bool { return starts[m] > entry }) - 1
}

// seriesStream goes through the members one after the other.
type seriesStream struct {
	a       *Archive
	opened  []*Archive
	at      int // the member that is gone through
	entries int // of all so far
	within  int // of the next entry in a member with a directory
	data    io.ReadCloser
}

func (s *seriesStream) Next() (archive.Entry, error) {
	for {
		if s.at >= 0 {
			e, err := s.next(s.opened[s.at])
			if err == nil {
				s.entries++
				return e, nil
			}
			if err != io.EOF {
				return e, fault.At(s.a.members[s.at], err)
			}
		}
		if s.at+1 == len(s.opened) {
			return archive.Entry{}, io.EOF
		}
		s.at++
		s.within = 0
		s.a.starts = append(s.a.starts, s.entries)
	}
}

func (s *seriesStream) next(m *Archive) (archive.Entry, error) {
	if m.Reader == nil {
		return m.Stream.Next()
	}
	s.closeData()
	entries := m.Entries()
	if s.within == len(entries) {
		return archive.Entry{}, io.EOF
	}
	e := entries[s.within]
	if e.Kind == archive.Symlink && e.Link == "" {
		var err error
		if e.Link, err = archive.LinkTarget(m.Reader, s.within); err != nil {
			return e, err
		}
	}
	s.within++
	return e, nil
}

func (s *seriesStream) Read(p []byte) (n int, err error) {
	m := s.opened[s.at]
	if m.Reader == nil {
		n, err = m.Stream.Read(p)
	} else {
		if s.data == nil {
			if s.data, err = m.Open(s.within - 1); err != nil {
				return 0, err
			}
		}
		n, err = s.data.Read(p)
	}
	return n, err
}

func (s *seriesStream) closeData() {
	if s.data != nil {
		s.data.Close() // read only: nothing can be lost
		s.data = nil
	}
}

func (s *seriesStream) Close() error {
	s.closeData()
	return nil // the members are closed by their archive
}
