// Package walk opens archives: those on disk, in one file or in the parts of a
// set, series of them that are one, and those inside others. It owns what they are
// read from, spooled files included, and goes through their entries in order.
// Which archives there are is the business of core/source; which of their entries matter,
// and what becomes of them, is the caller's business.
package walk

import (
	"context"
	"io"
	"iter"
	"slices"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/lone"
	"widecrate/core/parts"
	"widecrate/core/source"
	"widecrate/core/storage"
)

// An Archive is an open archive: one with a directory, whose entries can be read in any
// order, or one that comes in order. An archive inside another keeps that open as long as
// it is needed itself.
type Archive struct {
	Name   string // of its file, as far as it has one
	Format string
	Files  []blob.File // that the archive lies in; nil for one inside another, or from standard input

	directory archive.Reader // nil for an archive that comes in order
	stream    archive.Stream // nil for an archive with a directory

	set     *parts.Set // nil: the archive is one file
	members []string   // of a series, in order
	starts  []int      // of a series: the first entry of each member
	opened  []*Archive // of a series: its members
	data    blob.Blob  // nil for a series
	format  archive.Format
	ordered bool // the archive is gone through once, from front to back, where its format allows that
	remarks []archive.Remark
	total   int64        // bytes that will come, where that is known beforehand; 0: that is not known
	read    atomic.Int64 // bytes that were read of an archive that comes in order
	rules   archive.Options
	outer   *Archive
	pile    blob.Pile
	memory  int64 // bytes left for the archives inside, where those are opened as they pass by
	users   atomic.Int32
	budget  *bound.Budget // of the archive and of all inside
}

// Opening says how a source is opened. Zero values are the usual ones.
type Opening struct {
	archive.Options
	Limits  bound.Limits
	Sums    *parts.Lists           // of SHA-256 sums, that the archive is checked against before; nil: it is not
	Whole   bool                   // all of the archive will be read, and once is enough
	Ordered bool                   // the archive is gone through from front to back, if its format allows that
	Dir     func() (string, error) // of what has to be kept while the archive is read; nil: that of the system for such files
	Kept    *atomic.Int64          // counts the bytes of that; nil: nobody asks
	Fetched string                 // the folder in which what comes from an address is kept as it came; empty: it is not
}

// Open opens a source and reads its directory, if there is one. What comes from an
// address is read until ctx is cancelled. More entries than the limits allow are of kind
// fault.Unsafe.
func Open(ctx context.Context, s source.Source, o Opening) (*Archive, error) {
	switch {
	case s.Err() != nil:
		return nil, s.Err()
	case o.Sums != nil:
		if err := s.CheckSums(ctx, o.Sums); err != nil {
			return nil, err
		}
		o.Sums = nil
	}
	if s.Members() != nil {
		return openSeries(ctx, s, o)
	}
	o.Name = s.Name()
	switch {
	case s.Set() != nil && o.Fetched != "":
		set, err := fetchSet(ctx, s.Set(), o)
		if err != nil {
			return nil, err
		}
		return openSet(set, o)
	case s.Set() != nil:
		return openSet(s.Set(), o)
	case s.Address() != nil && o.Fetched != "":
		return openFetched(ctx, s, o)
	case s.Address() != nil:
		return openAddress(ctx, s, o)
	case s.Input() != nil:
		o.Name = "" // standard input has no name that says what is in it
		a, err := openInput(ctx, s.Input(), o)
		if a != nil {
			a.Name = s.Name()
		}
		return a, err
	}
	data, err := blob.Open(s.Path)
	if err != nil {
		return nil, err
	}
	opened, err := newArchive(data, o).open()
	if fault.Of(err) == fault.Incomplete {
		if set, _ := parts.OfLast(storage.Sites{}, s.Path); set != nil {
			err = set.Check()
		}
	}
	return opened, err
}

func newArchive(data blob.Blob, o Opening) *Archive {
	a := &Archive{Name: o.Name, data: data, rules: o.Options, ordered: o.Ordered}
	a.users.Store(1)
	a.bound(o.Limits)
	return a
}

// bound gives the archive a budget of its own.
func (a *Archive) bound(limits bound.Limits) {
	a.budget = limits.Budget(a.Size)
	a.rules.Names, a.rules.Decoded = new(archive.Names), a.budget.Decode
}

// Budget is what may be decoded of the archive, and of all inside it.
func (a *Archive) Budget() *bound.Budget { return a.budget }

// OpenAs opens what is known to be in a format. The data is closed with the archive.
func OpenAs(f archive.Format, data blob.Blob, o Opening) (*Archive, error) {
	return newArchive(data, o).openAs(f)
}

// AnyOrder reports whether the archive has a directory, so that its entries can be read in
// any order, and several at once.
func (a *Archive) AnyOrder() bool { return a.directory != nil }

// Entries are those of an archive with a directory; they must not be changed, but for what
// a walk completes. Of an archive that comes in order there are none before it was gone through.
func (a *Archive) Entries() []archive.Entry {
	if a.directory == nil {
		return nil
	}
	return a.directory.Entries()
}

// Data opens the data of the i-th entry of an archive with a directory; see archive.Reader.
func (a *Archive) Data(i int) (io.ReadCloser, error) { return a.directory.Open(i) }

// Link returns where the i-th entry of an archive with a directory, a link, points to.
func (a *Archive) Link(i int) (string, error) { return archive.LinkTarget(a.directory, i) }

// Broken says why entries of a damaged archive may be missing; see archive.Broken.
func (a *Archive) Broken() error { return archive.Broken(a.directory) }

// Directory is that of the archive, for what only one format has; nil for an archive that
// comes in order.
func (a *Archive) Directory() archive.Reader { return a.directory }

// Stream is what an archive that comes in order is read from, for what only one format has.
func (a *Archive) Stream() archive.Stream {
	if explained, is := a.stream.(*explained); is {
		return explained.Stream
	}
	return a.stream
}

// Size is that of the archive itself, in bytes, as far as they have come.
func (a *Archive) Size() int64 {
	if a.data != nil {
		return a.data.Size()
	}
	var sum int64
	for _, member := range a.opened {
		if member != nil {
			sum += member.Size()
		}
	}
	return sum
}

// Expected is the size of the archive in the end, in bytes; 0 where that is not known.
func (a *Archive) Expected() int64 {
	if a.Arriving() {
		return a.total
	}
	return a.Size()
}

// Position is how many bytes were read of an archive that comes in order.
func (a *Archive) Position() int64 { return a.read.Load() }

// watched counts what is read of an archive that comes in order.
type watched struct{ a *Archive }

func (w watched) ReadAt(p []byte, at int64) (int, error) {
	n, err := w.a.data.ReadAt(p, at)
	w.a.read.Add(int64(n))
	return n, err
}

// Arriving reports whether its size is known only when it was read to its end.
func (a *Archive) Arriving() bool {
	_, flows := a.data.(*blob.Flow)
	return flows || slices.ContainsFunc(a.opened, func(m *Archive) bool { return m == nil || m.Arriving() })
}

// Kept are the entries of an archive with a directory that a selection keeps.
func (a *Archive) Kept(selection *choose.Selection) iter.Seq[int] {
	return func(yield func(int) bool) {
		for i := range a.Entries() {
			if selection.Judge(&a.Entries()[i]) == choose.Kept && !yield(i) {
				return
			}
		}
	}
}

// Foresee says which entries of an archive with a directory will be read.
func (a *Archive) Foresee(entries iter.Seq[int]) {
	if a.opened != nil {
		for m, member := range a.opened {
			member.Foresee(func(yield func(int) bool) {
				for i := range entries {
					if memberAt(a.starts, i) == m && !yield(i-a.starts[m]) {
						return
					}
				}
			})
		}
		return
	}
	_, wants := a.data.(blob.Foreseer)
	extents, tells := a.directory.(archive.Extents)
	if !wants || !tells {
		return
	}
	var ranges []blob.Range
	for i := range entries {
		from, to := extents.Extent(i)
		ranges = append(ranges, blob.Range{From: from, To: to})
	}
	blob.Foresee(a.data, ranges...)
}

// openStream opens the archive to be gone through from front to back.
func (a *Archive) openStream() (archive.Stream, error) {
	blob.Foresee(a.data, blob.Range{To: a.size()})
	return a.format.OpenStream(watched{a}, a.size(), a.rules)
}

// Again goes through an archive that comes in order once more, from its start; nil where
// that only comes once.
func (a *Archive) Again() (archive.Stream, error) {
	if a.Arriving() || a.members != nil {
		return nil, nil
	}
	return a.format.OpenStream(a.data, a.size(), a.rules)
}

// size is that of the data, as far as it is known.
func (a *Archive) size() int64 {
	if a.Arriving() {
		return blob.Endless
	}
	return a.data.Size()
}

// Remarks are those about how the archive was read; see archive.Remarks.
func (a *Archive) Remarks() []archive.Remark {
	if a.directory != nil {
		return append(a.remarks, archive.Remarks(a.directory)...)
	}
	return append(a.remarks, archive.Remarks(a.stream)...)
}

// Summed reports whether all of it is checked at its end; see archive.Summed.
func (a *Archive) Summed() bool { return a.stream != nil && archive.Summed(a.stream) }

// Passwords are the numbers of the candidates, from 1, that have opened entries so far.
func (a *Archive) Passwords() []int {
	if locked, ok := a.directory.(interface{ Passwords() []int }); ok {
		return locked.Passwords()
	}
	return nil
}

// Member is the name of the member of a series that an entry is in; empty where
// it is in none.
func (a *Archive) Member(entry int) string {
	if a.members == nil {
		return ""
	}
	return a.members[memberAt(a.starts, entry)]
}

func (a *Archive) open() (*Archive, error) {
	f, err := format.Identify(a.data, a.data.Size())
	if err != nil {
		err = a.outOfOrder(err)
		a.Close()
		return nil, err
	}
	a.leaveOutBorders(f)
	return a.openAs(lone.Inside(f, a.data, a.data.Size(), a.rules.Dictionary))
}

func (a *Archive) openAs(f archive.Format) (_ *Archive, err error) {
	a.Files, a.Format, a.format, a.memory = a.data.Files(), f.Name, f, 4*inMemory
	if f.Open == nil || a.ordered && f.OpenStream != nil {
		a.stream, err = a.openStream()
	} else if a.directory, err = f.Open(a.data, a.size(), a.rules); err == archive.ErrOrdered {
		a.directory = nil
		a.stream, err = a.openStream()
	} else if err == nil {
		err = a.budget.Count(len(a.directory.Entries()))
	}
	if err != nil {
		a.directory, a.stream = nil, nil
		a.Close()
		return nil, err
	}
	return a, nil
}

// Unchanged makes sure that the files on disk which the archive is read from, or the one
// around it, are still as they were when they were opened; anything else is of kind
// fault.Unreadable.
func (a *Archive) Unchanged() error {
	for a.outer != nil {
		a = a.outer
	}
	for _, f := range a.Files {
		if err := f.Unchanged(); err != nil {
			return err
		}
	}
	return nil
}

// keep holds the archive open for one more user.
func (a *Archive) keep() { a.users.Add(1) }

// Close lets go of the archive; the last user closes it, and lets go of the
// one around it. Later calls do nothing.
func (a *Archive) Close() error {
	if a.users.Add(-1) != 0 { // others use the archive, or it is closed already
		return nil
	}
	var err error
	switch {
	case a.directory != nil:
		err = a.directory.Close()
	case a.stream != nil:
		err = a.stream.Close()
	}
	for _, member := range a.opened {
		if member == nil {
			continue
		}
		if closed := member.Close(); err == nil {
			err = closed
		}
	}
	if a.data != nil {
		if closed := a.data.Close(); err == nil {
			err = closed
		}
	}
	if closed := a.pile.Close(); err == nil {
		err = closed
	}
	if a.outer != nil {
		a.outer.Close()
	}
	return err
}
