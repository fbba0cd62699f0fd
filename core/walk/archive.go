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
	"path"
	"slices"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// An Archive is an open archive: one with a directory that can be read at any
// entry, or one that comes in order. It may lie inside another, and keeps that
// open as long as it is needed itself.
type Archive struct {
	archive.Reader                // nil for one that comes in order
	Stream         archive.Stream // nil for one with a directory
	Name           string         // of its file, as far as it has one
	Format         string
	Files          []blob.File // that it lies in; nil for one inside another, or from standard input

	set     *parts.Set // nil: it is one file
	members []string   // of a series, in order
	starts  []int      // of a series: the first entry of each member
	opened  []*Archive // of a series: its members

	data    blob.Blob // nil for a series
	format  archive.Format
	ordered bool // it is gone through once, from front to back, where its format allows that
	remarks []archive.Remark
	total   int64        // bytes that will come, where that is known beforehand; 0: it is not
	read    atomic.Int64 // bytes of one that comes in order
	rules   archive.Options
	outer   *Archive
	pile    blob.Pile
	room    int64 // bytes of memory left for the archives inside, where they are opened as they pass by
	users   atomic.Int32
	budget  *bound.Budget // of it and of all inside
}

// Opening says how a source is opened. Zero values are the usual ones.
type Opening struct {
	archive.Options
	Limits bound.Limits
	Whole  bool                   // all of it will be read, and once is enough
	Dir    func() (string, error) // of what has to be kept while it is read; nil: that of the system for such files
	Most   int64                  // bytes of that; 0: no bound
	Kept   *atomic.Int64          // counts them; nil: nobody asks
}

// Open opens a source and reads its directory, if it has one. What comes from an
// address is read until ctx is cancelled.
func Open(ctx context.Context, s source.Source, o Opening) (*Archive, error) {
	switch {
	case s.Err != nil:
		return nil, s.Err
	case s.Members != nil:
		return openSeries(ctx, s, o)
	}
	o.Name = s.Name()
	switch {
	case s.Set != nil:
		return openSet(s.Set, o)
	case s.Address != nil:
		return openAddress(ctx, s, o)
	case s.Input != nil:
		o.Name = "" // it has none that says what is in it
		a, err := openInput(ctx, s.Input, o)
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
		if set := parts.OfLast(s.Path); set != nil {
			err = set.Check()
		}
	}
	return opened, err
}

func newArchive(data blob.Blob, o Opening) *Archive {
	a := &Archive{Name: o.Name, data: data, rules: o.Options}
	a.users.Store(1)
	a.bound(o.Limits)
	return a
}

// bound gives the archive a budget of its own.
func (a *Archive) bound(limits bound.Limits) {
	a.budget = limits.Budget(a.Size)
	a.rules.Names, a.rules.Decoded = new(archive.Names), a.budget.Decode
}

// Budget is what may be decoded of it, and of all inside it.
func (a *Archive) Budget() *bound.Budget { return a.budget }

// OpenAs opens what is known to be in a format. The data is closed with it.
func OpenAs(f archive.Format, data blob.Blob, o archive.Options) (*Archive, error) {
	return newArchive(data, Opening{Options: o}).openAs(f)
}

// Size is that of the archive itself, in bytes, as far as it has come.
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

// Expected is the size that it will have in the end, in bytes; 0 where that is not
// known.
func (a *Archive) Expected() int64 {
	if a.Arriving() {
		return a.total
	}
	return a.Size()
}

// Position is how many bytes of it were read, of one that comes in order.
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
	extents, tells := a.Reader.(archive.Extents)
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

// Ordered goes through the archive from front to back, whatever its kind; nil for
// one that has to be read by its directory.
func (a *Archive) Ordered() archive.Stream {
	if a.Stream != nil || a.members != nil || a.format.OpenStream == nil {
		return a.Stream
	}
	stream, err := a.openStream()
	if err != nil {
		return nil
	}
	return stream
}

// openStream opens it to be gone through from front to back.
func (a *Archive) openStream() (archive.Stream, error) {
	blob.Foresee(a.data, blob.Range{To: a.size()})
	return a.format.OpenStream(watched{a}, a.size(), a.rules)
}

// Again goes through an archive that comes in order once more, from its start; nil where it
// only comes once.
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

// Remarks are those about how it was read; see archive.Remarks.
func (a *Archive) Remarks() []archive.Remark {
	if a.Reader != nil {
		return append(a.remarks, archive.Remarks(a.Reader)...)
	}
	return append(a.remarks, archive.Remarks(a.Stream)...)
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
	return a.openAs(f)
}

func (a *Archive) openAs(f archive.Format) (_ *Archive, err error) {
	a.Files, a.Format, a.format, a.room = a.data.Files(), f.Name, f, 4*inMemory
	if f.Open == nil || a.ordered && f.OpenStream != nil {
		a.Stream, err = a.openStream()
	} else if a.Reader, err = f.Open(a.data, a.size(), a.rules); err == archive.ErrOrdered {
		a.Reader = nil
		a.Stream, err = a.openStream()
	}
	if err != nil {
		a.Reader, a.Stream = nil, nil
		a.Close()
		return nil, err
	}
	return a, nil
}

// inMemory is the size up to which an archive inside another is read into memory;
// a larger one is spooled to a file.
const inMemory = 16 << 20

// Inner opens an entry that is an archive itself, from its decoded and checked
// data, which is kept in memory or in a file in a folder that dir names when it is
// needed; nil: that of the system for such files.
func (a *Archive) Inner(entry *archive.Entry, data io.Reader, dir func() (string, error)) (*Archive, error) {
	if a.Stream == nil {
		spooled, err := blob.Spool(data, inMemory, dir)
		if err != nil {
			return nil, err
		}
		return a.openInner(entry, spooled)
	}
	spooled, err := a.pile.Add(data, min(inMemory, a.room), dir) // all of them wait until this one has passed by
	if err != nil {
		return nil, err
	}
	a.room -= min(spooled.Size(), a.room)
	return a.openInner(entry, spooled)
}

// remote reports whether it lies at an address.
func (a *Archive) remote() bool {
	for a.outer != nil {
		a = a.outer
	}
	return len(a.Files) > 0 && a.Files[0].Remote()
}

// InnerInPlace opens an entry that is an archive itself where it lies, if it is stored there
// as it is; nil: it is not. On disk its data is checked before, read through check; nil: it
// is only looked into. At an address, where a part is had for less than the whole, only its
// own entries are checked.
func (a *Archive) InnerInPlace(i int, check func(io.Reader) io.Reader) (*Archive, error) {
	_, ranges := a.data.(blob.Foreseer)
	stores, tells := a.Reader.(archive.Stores)
	if !ranges || !tells {
		return nil, nil
	}
	from, size, err := stores.Stored(i)
	if size == archive.Unknown || err != nil {
		return nil, err
	}
	if check != nil && !a.remote() {
		data, err := a.Open(i)
		if err != nil {
			return nil, err
		}
		defer data.Close()
		if _, err := io.Copy(io.Discard, check(data)); err != nil {
			return nil, err
		}
	}
	return a.openInner(&a.Entries()[i], blob.Section(a.data, from, size))
}

func (a *Archive) openInner(entry *archive.Entry, data blob.Blob) (*Archive, error) {
	inner := newArchive(data, Opening{Options: a.rules})
	inner.outer, inner.budget = a, a.budget
	inner.rules.Names, inner.rules.Decoded = a.rules.Names, a.rules.Decoded
	inner.Name = path.Base(entry.Path)
	inner.rules.Name, inner.rules.Parts = inner.Name, nil
	a.Keep()
	return inner.open()
}

// Unchanged makes sure that the files on disk which it is read from, or the one around it,
// are still as they were when they were opened; anything else is of kind fault.Unreadable.
func (a *Archive) Unchanged() error {
	for a.outer != nil {
		a = a.outer
	}
	for _, f := range a.Files {
		if f.Remote() { // each of its ranges is asked for as it was
			continue
		}
		if err := f.Unchanged(); err != nil {
			return err
		}
	}
	return nil
}

// Keep holds the archive open for one more user.
func (a *Archive) Keep() { a.users.Add(1) }

// Close lets go of the archive; the last user closes it, and lets go of the
// one around it. Later calls do nothing.
func (a *Archive) Close() error {
	if a.users.Add(-1) != 0 { // others use it, or it is closed already
		return nil
	}
	var err error
	switch {
	case a.Reader != nil:
		err = a.Reader.Close()
	case a.Stream != nil:
		err = a.Stream.Close()
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
