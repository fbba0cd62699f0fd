package tar

import (
	"errors"
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Reader reads a plain tar at any entry: its headers were gone through once.
type Reader struct {
	r       io.ReaderAt
	entries []archive.Entry
	data    []extent
	broken  error   // why entries may be missing
	parser  *parser // for what was noticed
}

// extent is where the data of an entry is.
type extent struct {
	at, length int64
	pieces     []piece
}

// Open goes through the headers of the archive of size bytes in r. Headers that
// are wrong, and data that is cut off, are of kind fault.Damaged.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	in := blob.FrontOf(r, size)
	p := &parser{in: in, encoding: o.Encoding, names: o.Names}
	t := &Reader{r: r, parser: p}
	for {
		m, err := p.next()
		at := in.Offset()
		if err == io.EOF {
			return t, nil
		}
		if err == nil && in.Skip(m.stored+padding(m.stored)) != nil {
			err = damaged(at, "the data of %q is cut off", m.Path)
		}
		if e, ok := errors.AsType[*fault.Error](err); ok && e.Kind == fault.Damaged {
			e.Err = &archive.Break{Offset: at, CutOff: in.Offset() >= size, Err: e.Err}
		}
		if err != nil && o.Salvage && fault.Of(err) == fault.Damaged && t.entries != nil {
			t.broken = err
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		t.entries = append(t.entries, m.Entry)
		t.data = append(t.data, extent{at, m.data(), m.pieces})
	}
}

// Entries lists the archive in its order.
func (t *Reader) Entries() []archive.Entry { return t.entries }

// Broken says why entries may be missing from the list; nil if none are.
func (t *Reader) Broken() error { return t.broken }

// Remarks are those of the parser.
func (t *Reader) Remarks() []archive.Remark { return t.parser.Remarks() }

// Close does nothing: a Reader holds no more than memory.
func (t *Reader) Close() error { return nil }

// Extent is that of archive.Extents.
func (t *Reader) Extent(i int) (from, to int64) { return t.data[i].at, t.data[i].at + t.data[i].length }

// Stored is that of archive.Stores.
func (t *Reader) Stored(i int) (from, size int64, err error) {
	if t.data[i].pieces != nil {
		return 0, archive.Unknown, nil
	}
	return t.data[i].at, t.data[i].length, nil
}

// Open returns the data of entry i. A tar has no checksums of it: only its
// length is checked.
func (t *Reader) Open(i int) (io.ReadCloser, error) {
	x := &t.data[i]
	data := blob.Extents(t.r, blob.Range{From: x.at, To: x.at + x.length})
	if x.pieces == nil {
		return data, nil
	}
	return io.NopCloser(&expanded{data: data, pieces: x.pieces, size: t.entries[i].Size}), nil // an io.WriterTo as well
}

// Stream reads a tar as its bytes arrive.
type Stream struct {
	parser
	m    *member
	data io.Reader
	left int64 // stored bytes of the entry that were not read, padding included
}

// NewStream reads a tar from r. Errors of r are returned as they are.
func NewStream(r io.Reader, o archive.Options) *Stream {
	return &Stream{parser: parser{in: blob.FrontStream(r), encoding: o.Encoding, names: o.Names}}
}

// Next moves to the next entry; see archive.Stream.
func (s *Stream) Next() (archive.Entry, error) {
	if s.m != nil {
		at := s.in.Offset()
		if err := s.in.Skip(s.left); err != nil {
			return archive.Entry{}, s.broken(at, err)
		}
	}
	m, err := s.next()
	if err != nil {
		s.m = nil
		return archive.Entry{}, err
	}
	s.m = m
	s.left = m.stored + padding(m.stored)
	s.data = io.LimitReader(stored{s}, m.data())
	if m.pieces != nil {
		s.data = &expanded{data: s.data, pieces: m.pieces, size: m.Size}
	}
	return m.Entry, nil
}

func (s *Stream) broken(at int64, err error) error {
	if fault.CutOff(err) {
		return fault.New(fault.Damaged, "the archive is cut off in the data of %q, at offset %d", s.m.Path, at)
	}
	return err
}

// Read reads the data of the current entry.
func (s *Stream) Read(p []byte) (int, error) {
	if s.m == nil {
		return 0, io.EOF
	}
	return s.data.Read(p)
}

// WriteTo writes what is left of the current entry, holes as such where w can
// have them.
func (s *Stream) WriteTo(w io.Writer) (int64, error) {
	if s.m == nil {
		return 0, nil
	}
	if sparse, ok := s.data.(*expanded); ok {
		return sparse.WriteTo(w)
	}
	return archive.Copy(w, struct{ io.Reader }{s.data})
}

// Close does nothing; what the stream reads from is its maker's.
func (s *Stream) Close() error { return nil }

// stored reads what an entry has in the archive.
type stored struct{ s *Stream }

func (d stored) Read(p []byte) (int, error) {
	n, err := d.s.in.Read(p)
	d.s.left -= int64(n)
	if err != nil && n == 0 {
		return 0, d.s.broken(d.s.in.Offset(), err)
	}
	return n, nil
}
