package source

import (
	"bytes"
	"io"
	"os"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
)

// An Archive is an open archive. It may lie inside another, and keeps that open
// as long as it is needed itself.
type Archive struct {
	archive.Reader
	Size int64 // of the archive itself, in bytes
	Info os.FileInfo

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
	return (&Archive{Size: info.Size(), Info: info, data: f, rules: o, close: f.Close}).open()
}

func (a *Archive) open() (*Archive, error) {
	a.users.Store(1)
	var err error
	if a.Reader, err = format.Open(a.data, a.Size, a.rules); err != nil {
		a.Reader = nil
		a.Close()
		return nil, err
	}
	return a, nil
}

// inMemory is the size up to which an archive inside another is read into
// memory; a larger one is spooled to a file.
const inMemory = 16 << 20

// Inner opens the i-th entry, an archive itself. It is decoded and checked
// first, read through the reader that through makes: into memory if it is
// small, otherwise into a file that spool makes. That file is closed, but not
// removed, with the archive.
func (a *Archive) Inner(i int, through func(io.Reader) io.Reader, spool func() (*os.File, error)) (*Archive, error) {
	entry := &a.Entries()[i]
	opened, err := a.Reader.Open(i)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	data := through(opened)
	inner := &Archive{outer: a, rules: a.rules, close: func() error { return nil }}
	if entry.Size != archive.Unknown && entry.Size <= inMemory {
		var b bytes.Buffer
		if _, err := b.ReadFrom(data); err != nil {
			return nil, err
		}
		inner.data, inner.Size = bytes.NewReader(b.Bytes()), int64(b.Len())
	} else {
		f, err := spool()
		if err != nil {
			return nil, err
		}
		inner.data, inner.close = f, f.Close
		if inner.Size, err = io.Copy(f, data); err != nil {
			f.Close()
			return nil, fault.Writing(f.Name(), err)
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
	if a.Reader != nil {
		err = a.Reader.Close()
	}
	if closed := a.close(); err == nil {
		err = closed
	}
	if a.outer != nil {
		a.outer.Close()
	}
	return err
}
