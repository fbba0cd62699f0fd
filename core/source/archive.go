package source

import (
	"bytes"
	"io"
	"os"
	"path"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
)

// An Archive is an open archive: one with a directory that can be read at any
// entry, or one that comes in order. It may lie inside another, and keeps that
// open as long as it is needed itself.
type Archive struct {
	archive.Reader                // nil for one that comes in order
	Stream         archive.Stream // nil for one with a directory
	Format         string
	Size           int64       // of the archive itself, in bytes
	Info           os.FileInfo // of its file; nil for one inside another

	data  io.ReaderAt
	rules archive.Options
	close func() error
	outer *Archive
	users atomic.Int32
}

// Open opens a source on disk and reads its directory.
func (s Source) Open(o archive.Options) (*Archive, error) {
	if s.Err != nil {
		return nil, s.Err
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
	o.Name = s.Name()
	return (&Archive{Size: info.Size(), Info: info, data: f, rules: o, close: f.Close}).open()
}

func (a *Archive) open() (*Archive, error) {
	a.users.Store(1)
	f, err := format.Identify(a.data, a.Size)
	if err == nil {
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
