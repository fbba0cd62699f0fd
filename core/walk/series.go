package walk

import (
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"sort"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/source"
)

// openSeries opens the members of a series as one archive. It comes in order if
// one of them does.
func openSeries(ctx context.Context, s source.Source, o Opening) (*Archive, error) {
	if files := volumes(ctx, s); files != nil {
		return openVolumes(ctx, s.Name(), files, o)
	}
	a := &Archive{Name: s.Name(), rules: o.Options, memory: 4 * inMemory}
	a.users.Store(1)
	a.bound(o.Limits)
	ordered := false
	formats := map[string]bool{}
	for i, member := range s.Members() {
		a.members = append(a.members, member.Name())
		if i > 0 && a.opened[0].Arriving() { // each holds a connection: one after the other
			a.opened = append(a.opened, nil)
			continue
		}
		m, err := Open(ctx, member, o)
		if err != nil {
			a.Close()
			return nil, fault.At(member.Name(), err)
		}
		a.opened = append(a.opened, m)
		a.Files = append(a.Files, m.Files...)
		a.Format = m.Format
		formats[m.Format] = true
		ordered = ordered || !m.AnyOrder() || m.Arriving()
	}
	if len(formats) > 1 {
		a.Format = "mixed"
	}
	if ordered {
		a.stream = &seriesStream{a: a, open: func(m int) (err error) {
			if a.opened[m] == nil {
				a.opened[m], err = Open(ctx, s.Members()[m], o)
			}
			return err
		}}
		return a, nil
	}
	r := &seriesReader{opened: a.opened}
	for i, m := range a.opened {
		a.starts = append(a.starts, len(r.entries))
		r.entries = append(r.entries, m.Entries()...)
		r.broken = errors.Join(r.broken, fault.At(a.members[i], m.Broken()))
		for _, remark := range archive.Remarks(m.directory) {
			remark.Text = a.members[i] + ": " + remark.Text
			r.remarks = append(r.remarks, remark)
		}
	}
	r.starts = a.starts
	a.directory = r
	if err := a.budget.Count(len(r.entries)); err != nil {
		a.Close()
		return nil, err
	}
	return a, nil
}

// seriesReader is a series whose members have directories.
type seriesReader struct {
	opened  []*Archive
	entries []archive.Entry
	starts  []int // of each member's entries
	broken  error
	remarks []archive.Remark
}

func (r *seriesReader) Entries() []archive.Entry  { return r.entries }
func (r *seriesReader) Broken() error             { return r.broken }
func (r *seriesReader) Remarks() []archive.Remark { return r.remarks }
func (r *seriesReader) Passwords() (numbers []int) {
	for _, m := range r.opened {
		numbers = append(numbers, m.Passwords()...)
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

func (r *seriesReader) Close() error { return nil } // the members are closed by their archive

func (r *seriesReader) Open(i int) (io.ReadCloser, error) {
	m := memberAt(r.starts, i)
	return r.opened[m].Data(i - r.starts[m])
}

// memberAt says in which member an entry is.
func memberAt(starts []int, entry int) int {
	return sort.Search(len(starts), func(m int) bool { return starts[m] > entry }) - 1
}

// seriesStream goes through the members one after the other.
type seriesStream struct {
	a       *Archive
	open    func(member int) error // unless it is open
	at      int                    // the member that is gone through
	next    func() (*Entry, error, bool)
	stop    func() // of next; nil before the first member
	entry   *Entry // the current one
	entries int    // of all so far
}

func (s *seriesStream) Next() (archive.Entry, error) {
	for {
		if s.stop != nil {
			e, err, more := s.next()
			if more && err == nil && e.Kind == archive.Symlink && e.Link == "" {
				e.Link, err = e.Target()
			}
			switch {
			case err != nil:
				return archive.Entry{}, fault.At(s.a.members[s.at], err)
			case more:
				s.entry = e
				s.entries++
				return *e.Entry, nil
			}
			s.at++
			s.Close()
		}
		if s.at == len(s.a.opened) {
			return archive.Entry{}, io.EOF
		}
		if err := s.open(s.at); err != nil {
			return archive.Entry{}, fault.At(s.a.members[s.at], err)
		}
		s.next, s.stop = iter.Pull2(s.a.opened[s.at].Walk(context.Background()))
		s.a.starts = append(s.a.starts, s.entries)
	}
}

func (s *seriesStream) Read(p []byte) (n int, err error) { return s.entry.Read(p) }

func (s *seriesStream) WriteTo(w io.Writer) (int64, error) { return s.entry.WriteTo(w) }

// Close lets go of the current member, which is closed by its archive.
func (s *seriesStream) Close() error {
	if s.stop != nil {
		s.stop()
		s.stop = nil
	}
	return nil
}
