// Package ar reads ar archives (IEEE Std 1003.1, utility ar) with both of the usual
// ways to have long names: in a table of their own, and in front of the data.
package ar

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Format is an ar archive. It is only read.
var Format = archive.Format{
	Name:       "ar",
	Extensions: []string{".ar"}, // .a is what a linker reads: it is opened when it is named
	Identify:   func(r io.ReaderAt, _ int64) bool { return Starts(r) },
	Open:       func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
}

const magic = "!<arch>\n"

// Starts reports whether content starts like an ar archive.
func Starts(r io.ReaderAt) bool {
	var b [len(magic)]byte
	n, err := r.ReadAt(b[:], 0)
	return n == len(b) && (err == nil || err == io.EOF) && string(b[:]) == magic
}

// A header has text fields that are filled up with spaces: name, time, user, group,
// mode in octal digits, and size, with two bytes at its end.
const (
	headerLength = 60
	headerEnd    = "`\n"
)

// longestTable bounds the table of long names, and a name in front of the data.
const longestTable = 64 << 20

// Reader reads an ar archive at any entry: its headers were gone through once.
type Reader struct {
	r       io.ReaderAt
	entries []archive.Entry
	data    []blob.Range
	broken  error // why entries may be missing
	names   *archive.Names
}

// Open goes through the headers of the archive of size bytes in r. Headers that are
// wrong, and data that is cut off, are of kind fault.Damaged.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	z := &Reader{r: r, names: o.Names}
	err := z.headers(blob.FrontOf(r, size), size)
	if err != nil && o.Salvage && fault.Of(err) == fault.Damaged && z.entries != nil {
		z.broken, err = err, nil
	}
	return z, err
}

func (z *Reader) headers(in blob.Front, size int64) error {
	if err := in.Skip(int64(len(magic))); err != nil {
		return damaged(0, "it is cut off", err)
	}
	var table []byte
	for {
		at := in.Offset()
		var b [headerLength]byte
		n, err := io.ReadFull(in, b[:])
		switch {
		case err == io.EOF, err == io.ErrUnexpectedEOF && len(bytes.Trim(b[:n], "\n\x00")) == 0: // what fills up
			return nil
		case err != nil:
			return damaged(at, "it is cut off", err)
		}
		e, err := parse(b[:], at)
		if err != nil {
			return err
		}
		length := e.Size
		start := in.Offset()
		if start+length > size {
			return fault.New(fault.Damaged, "%w", &archive.Break{Offset: start, CutOff: true, Err: fmt.Errorf("the data of %q at offset %d is cut off", e.Path, start)})
		}
		kept, err := z.name(in, &e, &table)
		if err != nil {
			return err
		}
		if kept {
			if err := z.names.Take(e.Path); err != nil {
				return err
			}
			z.entries = append(z.entries, e)
			z.data = append(z.data, blob.Range{From: start + length - e.Size, To: start + length})
		}
		_ = in.Skip(start + length + length%2 - in.Offset()) // the last one may not be filled up
	}
}

// parse reads a header; its name may stand elsewhere.
func parse(b []byte, at int64) (e archive.Entry, err error) {
	if string(b[58:]) != headerEnd {
		return e, damaged(at, "it does not end like one", nil)
	}
	field := func(from, to int) string { return strings.TrimRight(string(b[from:to]), " ") }
	length, err := strconv.ParseInt(field(48, 58), 10, 64)
	if err != nil || length < 0 {
		return e, damaged(at, "its size is no number", nil)
	}
	e = archive.Entry{Path: field(0, 16), Method: "store", Size: length, Packed: length, Offset: at}
	if seconds, err := strconv.ParseInt(field(16, 28), 10, 64); err == nil {
		e.Modified = time.Unix(seconds, 0)
	}
	if mode, err := strconv.ParseUint(field(40, 48), 8, 32); err == nil {
		e.Mode, e.HasMode = fs.FileMode(mode)&fs.ModePerm, true
	}
	if owner := field(28, 40); strings.Trim(owner, " 0") != "" { // user and group
		e.Also |= archive.Owner
	}
	return e, nil
}

// First is where the first header is.
const First = int64(len(magic))

// Header reads the header at an offset, of an entry with a short name, and says where
// its data is and where the next header. The error is io.EOF at the end.
func Header(r io.ReaderAt, at int64) (e archive.Entry, data, next int64, err error) {
	var b [headerLength]byte
	n, err := r.ReadAt(b[:], at)
	switch {
	case n < len(b) && err == io.EOF && len(bytes.Trim(b[:n], "\n\x00")) == 0:
		return e, 0, 0, io.EOF
	case n < len(b) && err == io.EOF:
		return e, 0, 0, damaged(at, "it is cut off", nil)
	case n < len(b):
		return e, 0, 0, fault.Reading("", err)
	}
	e, err = parse(b[:], at)
	e.Path = strings.TrimSuffix(e.Path, "/")
	data = at + headerLength
	return e, data, data + e.Size + e.Size%2, err
}

// name completes the name of an entry; false: it is none, but a table.
func (z *Reader) name(in blob.Front, e *archive.Entry, table *[]byte) (bool, error) {
	take := func(n int64) ([]byte, error) {
		if n > longestTable || n > e.Size {
			return nil, damaged(e.Offset, fmt.Sprintf("a name of %d bytes follows it", n), nil)
		}
		b := make([]byte, n)
		_, err := io.ReadFull(in, b)
		return b, err
	}
	switch name := e.Path; {
	case name == "/" || name == "/SYM64/" || strings.HasPrefix(name, "__.SYMDEF"): // the symbols of a library
		return false, nil
	case name == "//":
		b, err := take(e.Size)
		*table = b
		return false, err
	case strings.HasPrefix(name, "#1/"): // in front of the data
		length, err := strconv.ParseInt(name[3:], 10, 64)
		if err != nil || length < 0 {
			return false, damaged(e.Offset, "the length of its name is no number", nil)
		}
		b, err := take(length)
		if err != nil {
			return false, err
		}
		e.Path = strings.TrimRight(string(b), "\x00")
		e.Size, e.Packed = e.Size-length, e.Packed-length
		return !strings.HasPrefix(e.Path, "__.SYMDEF"), nil
	case strings.HasPrefix(name, "/"): // in the table
		at, err := strconv.Atoi(name[1:])
		if err != nil || at < 0 || at >= len(*table) {
			return false, damaged(e.Offset, "its name is not in the table of names", nil)
		}
		long, _, _ := cutName((*table)[at:])
		e.Path = strings.TrimSuffix(string(long), "/")
	default:
		e.Path = strings.TrimSuffix(name, "/")
	}
	return true, nil
}

// cutName is a name of the table: a line end or a NUL ends it.
func cutName(table []byte) (name []byte, rest []byte, found bool) {
	if end := bytes.IndexAny(table, "\n\x00"); end >= 0 {
		return table[:end], table[end+1:], true
	}
	return table, nil, false
}

func damaged(at int64, what string, err error) error {
	if err != nil && fault.Of(err) == fault.Unreadable {
		return err
	}
	return fault.New(fault.Damaged, "the header at offset %d: %s", at, what)
}

// Entries lists the archive in its order.
func (z *Reader) Entries() []archive.Entry { return z.entries }

// Broken says why entries may be missing from the list; nil if none are.
func (z *Reader) Broken() error { return z.broken }

// Close does nothing: a Reader holds no more than memory.
func (z *Reader) Close() error { return nil }

// Extent is that of archive.Extents.
func (z *Reader) Extent(i int) (from, to int64) { return z.data[i].From, z.data[i].To }

// Stored is that of archive.Stores.
func (z *Reader) Stored(i int) (from, size int64, err error) {
	return z.data[i].From, z.entries[i].Size, nil
}

// Open returns the data of entry i. There are no checksums of it: only its length is
// checked.
func (z *Reader) Open(i int) (io.ReadCloser, error) { return blob.Extents(z.r, z.data[i]), nil }
