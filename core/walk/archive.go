// Package walk opens archives: those on disk, in one file or in the parts of a
// set, series of them that are one, and those inside others. It owns what they are
// read from, spooled files included, and goes through their entries in order.
// Which archives there are is the business of core/source; which of their entries matter,
// and what becomes of them, is the caller's business.
package walk

import (
	"bufio"
	"io"
	"path"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/tar"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// An Archive is an open archive: one with a directory that can be read at any
// entry, or one that comes in order. It may lie inside another, and keeps that
// open as long as it is needed itself.
type Archive struct {
	archive.Reader                // nil for one that comes in order
	Stream         archive.Stream // nil for one with a directory
	Format         string
	Size           int64       // of the archive itself, in bytes
	Files          []blob.File // that it lies in; nil for one inside another

	set     *parts.Set // nil: it is one file
	members []string   // of a series, in order
	starts  []int      // of a series: the first entry of each member
	opened  []*Archive // of a series: its members

	data  blob.Blob // nil for a series
	rules archive.Options
	outer *Archive
	room  int64 // bytes of memory left for the archives inside, where they are opened as they pass by
	users atomic.Int32
}

// Open opens a source and reads its directory, if it has one.
func Open(s source.Source, o archive.Options) (*Archive, error) {
	switch {
	case s.Err != nil:
		return nil, s.Err
	case s.Members != nil:
		return openSeries(s, o)
	}
	o.Name = s.Name()
	if s.Set != nil {
		return openSet(s.Set, o)
	}
	data, err := blob.Open(s.Path)
	if err != nil {
		return nil, err
	}
	a := &Archive{data: data, rules: o}
	opened, err := a.open()
	if fault.Of(err) == fault.Incomplete {
		if set := parts.OfLast(s.Path); set != nil {
			err = set.Check()
		}
	}
	return opened, err
}

// OpenAs opens what is known to be in a format. The data is closed with it.
func OpenAs(f archive.Format, data blob.Blob, o archive.Options) (*Archive, error) {
	return (&Archive{data: data, rules: o}).openAs(f)
}

// Ordered goes through the archive from front to back, whatever its kind; nil for
// one that has to be read by its directory.
func (a *Archive) Ordered() archive.Stream {
	switch {
	case a.Stream != nil:
		return a.Stream
	case a.Format == tar.Format.Name && a.members == nil:
		return tar.NewStream(bufio.NewReaderSize(io.NewSectionReader(a.data, 0, a.Size), 256<<10), a.rules)
	}
	return nil
}

// Remarks are those about how it was read; see archive.Remarks.
func (a *Archive) Remarks() []archive.Remark {
	if a.Reader != nil {
		return archive.Remarks(a.Reader)
	}
	return archive.Remarks(a.Stream)
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
		a.users.Store(1)
		a.Close()
		return nil, err
	}
	return a.openAs(f)
}

func (a *Archive) openAs(f archive.Format) (_ *Archive, err error) {
	a.users.Store(1)
	a.Size, a.Files, a.Format, a.room = a.data.Size(), a.data.Files(), f.Name, 4*inMemory
	if f.Open != nil {
		a.Reader, err = f.Open(a.data, a.Size, a.rules)
	} else {
		a.Stream, err = f.OpenStream(a.data, a.Size, a.rules)
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
	memory := int64(inMemory)
	if a.Stream != nil { // all of them wait until this one has passed by
		memory = min(memory, a.room)
	}
	spooled, err := blob.Spool(data, memory, dir)
	if err != nil {
		return nil, err
	}
	if a.Stream != nil {
		a.room -= min(spooled.Size(), a.room)
	}
	inner := &Archive{outer: a, data: spooled, rules: a.rules}
	inner.rules.Name, inner.rules.Parts = path.Base(entry.Path), nil
	a.Keep()
	return inner.open()
}

// Keep holds the archive open for one more user.
func (a *Archive) Keep() { a.users.Add(1) }

// Close lets go of the archive; the last user closes it, and lets go of the
// one around it.
func (a *Archive) Close() error {
	if a.users.Add(-1) > 0 {
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
		if closed := member.Close(); err == nil {
			err = closed
		}
	}
	if a.data != nil {
		if closed := a.data.Close(); err == nil {
			err = closed
		}
	}
	if a.outer != nil {
		a.outer.Close()
	}
	return err
}
