package source

import (
	"bufio"
	"bytes"
	"io"
	"os"
	"path"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/tar"
	"widecrate/core/parts"
)

// An Archive is an open archive: one with a directory that can be read at any
// entry, or one that comes in order. It may lie inside another, and keeps that
// open as long as it is needed itself.
type Archive struct {
	archive.Reader                // nil for one that comes in order
	Stream         archive.Stream // nil for one with a directory
	Format         string
	Size           int64  // of the archive itself, in bytes
	Files          []File // that it lies in; nil for one inside another

	set     *parts.Set // nil: it is one file
	members []string   // of a series, in order
	starts  []int      // of a series: the first entry of each member

	data  io.ReaderAt
	rules archive.Options
	close func() error
	outer *Archive
	users atomic.Int32
}

// A File is one that an archive was read from.
type File struct {
	Path string
	Info os.FileInfo // as it was when it was opened
}

// Open opens a source on disk and reads its directory.
func (s Source) Open(o archive.Options) (*Archive, error) {
	switch {
	case s.Err != nil:
		return nil, s.Err
	case s.Members != nil:
		return s.openSeries(o)
	}
	o.Name = s.Name()
	if s.Set != nil {
		return s.openSet(o)
	}
	f, err := os.Open(s.Path)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Unreadable, "it is neither a file nor a folder")
	}
	if err != nil {
		f.Close()
		return nil, fault.Reading("", err)
	}
	a := &Archive{Size: info.Size(), Files: []File{{s.Path, info}}, data: f, rules: o, close: f.Close}
	opened, err := a.open()
	if fault.Of(err) == fault.Incomplete {
		if set := parts.OfLast(s.Path); set != nil {
			err = set.Check()
		}
	}
	return opened, err
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

// Member is the name of the member of a series that an entry is in; empty where
// it is in none.
func (a *Archive) Member(entry int) string {
	if a.members == nil {
		return ""
	}
	return a.members[memberAt(a.starts, entry)]
}

func (a *Archive) open() (*Archive, error) {
	a.users.Store(1)
	f, err := format.Identify(a.data, a.Size)
	if err != nil {
		err = a.outOfOrder(err)
	} else {
		a.Format = f.Name
		if f.Open != nil {
			a.Reader, err = f.Open(a.data, a.Size, a.rules)
		} else {
			a.Stream, err = f.OpenStream(a.data, a.Size, a.rules)
		}
	}
	if err != nil {
		a.Reader, a.Stream = nil, nil
		a.Close()
		return nil, err
	}
	return a, nil
}

// InMemory is the size up to which an archive inside another had better be read
// into memory; a larger one is spooled to a file.
const InMemory = 16 << 20

// Inner opens an entry that is an archive itself, from its decoded and checked
// data. It is read first, into memory if it has no more than that many bytes,
// otherwise into a file that spool makes. That file is closed, but not removed,
// with the archive.
func (a *Archive) Inner(entry *archive.Entry, data io.Reader, memory int64, spool func() (*os.File, error)) (*Archive, error) {
	inner := &Archive{outer: a, rules: a.rules, close: func() error { return nil }}
	inner.rules.Name = path.Base(entry.Path)
	var b bytes.Buffer
	if _, err := io.CopyN(&b, data, memory+1); err != nil && err != io.EOF {
		return nil, err
	}
	inner.data, inner.Size = bytes.NewReader(b.Bytes()), int64(b.Len())
	if int64(b.Len()) > memory {
		f, err := spool()
		if err != nil {
			return nil, err
		}
		inner.data, inner.close = f, f.Close
		if inner.Size, err = io.Copy(f, io.MultiReader(&b, data)); err != nil {
			f.Close()
			if fault.Of(err) == fault.Other {
				err = fault.Writing(f.Name(), err)
			}
			return nil, err
		}
	}
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
	if closed := a.close(); err == nil {
		err = closed
	}
	if a.outer != nil {
		a.outer.Close()
	}
	return err
}
