package tar

import (
	"errors"
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Reader reads a plain tar at any entry: its headers were gone through once.
type Reader struct {
	r       io.ReaderAt
	entries []archive.Entry
	data    []extent
	broken  error // why entries may be missing
	assumed bool  // an encoding of names
}

// extent is where the data of an entry is.
type extent struct {
	at, length int64
	pieces     []piece
}

// Open goes through the headers of the archive of size bytes in r. Headers that
// are wrong, and data that is cut off, are of kind fault.Damaged.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	in := &window{r: r, size: size}
	p := &parser{in: in, encoding: o.Encoding}
	t := &Reader{r: r}
	for {
		m, err := p.next()
		t.assumed = p.assumed
		at := in.offset()
		if err == io.EOF {
			if p.ended || o.Parts == nil {
				return t, nil
			}
			// Some writers leave the end mark out, but more parts may follow.
			err = damaged(at, "its end mark is missing")
		}
		if err == nil && in.skip(m.stored+padding(m.stored)) != nil {
			err, in.at = damaged(at, "the data of %q is cut off", m.Path), size
		}
		if e, ok := errors.AsType[*fault.Error](err); ok && e.Kind == fault.Damaged {
			e.Err = &archive.Break{Offset: at, CutOff: in.at >= size, Err: e.Err}
		}
		if err != nil && o.Salvage && fault.Of(err) == fault.Damaged && t.entries != nil {
			t.broken = err
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		t.entries = append(t.entries, m.Entry)
		t.data = append(t.data, extent{at, m.stored, m.pieces})
	}
}

// Entries lists the archive in its order.
func (t *Reader) Entries() []archive.Entry { return t.entries }

// Broken tells why entries may be missing from the list; nil if none are.
func (t *Reader) Broken() error { return t.broken }

// Remarks tell what was assumed of names.
func (t *Reader) Remarks() []archive.Remark {
	if t.assumed {
		return []archive.Remark{{Text: "names that are not UTF-8 were taken for Windows-1252", Hint: fault.NameEncoding}}
	}
	return nil
}

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
	data := &fileData{io.NewSectionReader(t.r, x.at, x.length), x.length}
	if x.pieces == nil {
		return io.NopCloser(data), nil
	}
	return io.NopCloser(&expanded{data: data, pieces: x.pieces, size: t.entries[i].Size}), nil // an io.WriterTo as well
}

// fileData reads data that must be there: a file that became shorter, or a disk
// that fails, is no damage.
type fileData struct {
	r    io.Reader
	left int64
}

func (d *fileData) Read(p []byte) (int, error) {
	n, err := d.r.Read(p)
	d.left -= int64(n)
	switch {
	case err == io.EOF && d.left > 0:
		err = fault.New(fault.Unreadable, "the archive became shorter while it was read")
	case err != nil && err != io.EOF:
		err = fault.Reading("", err)
	}
	return n, err
}

// window reads a file from front to back in pieces that hold many small entries
// at once, and leaps over large ones.
type window struct {
	r      io.ReaderAt
	size   int64
	at     int64
	block  [64 << 10]byte
	from   int64 // of what is in block
	filled int
}

func (w *window) offset() int64 { return w.at }

func (w *window) skip(n int64) error {
	if n > w.size-w.at {
		// Some writers leave out the padding of the last entry.
		if n-w.size+w.at >= blockSize {
			return io.ErrUnexpectedEOF
		}
		n = w.size - w.at
	}
	w.at += n
	return nil
}

func (w *window) Read(p []byte) (int, error) {
	if w.at >= w.size {
		return 0, io.EOF
	}
	if w.at < w.from || w.at >= w.from+int64(w.filled) {
		n, err := w.r.ReadAt(w.block[:min(int64(len(w.block)), w.size-w.at)], w.at)
		if n == 0 {
			if err == io.EOF {
				return 0, io.ErrUnexpectedEOF
			}
			return 0, fault.Reading("", err)
		}
		w.from, w.filled = w.at, n
	}
	n := copy(p, w.block[w.at-w.from:w.filled])
	w.at += int64(n)
	return n, nil
}

// Stream reads a tar as its bytes arrive.
type Stream struct {
	parser
	in   *counting
	m    *member
	data io.Reader
	left int64 // stored bytes of the entry that were not read, padding included
}

// NewStream reads a tar from r. Errors of r are returned as they are.
func NewStream(r io.Reader, o archive.Options) *Stream {
	in := &counting{r: r}
	return &Stream{parser: parser{in: in, encoding: o.Encoding}, in: in}
}

// Next moves to the next entry; see archive.Stream.
func (s *Stream) Next() (archive.Entry, error) {
	if s.m != nil {
		at := s.in.offset()
		err := s.in.skip(s.left)
		missing := s.left - (s.in.offset() - at)
		if err != nil && (err != io.EOF || missing > padding(s.m.stored)) {
			return archive.Entry{}, s.broken(at, err)
		}
		// Some writers leave out the padding of the last entry.
	}
	m, err := s.next()
	if err != nil {
		s.m = nil
		return archive.Entry{}, err
	}
	s.m = m
	s.left = m.stored + padding(m.stored)
	s.data = io.LimitReader(stored{s}, m.stored)
	if m.pieces != nil {
		s.data = &expanded{data: s.data, pieces: m.pieces, size: m.Size}
	}
	return m.Entry, nil
}

func (s *Stream) broken(at int64, err error) error {
	if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
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
		return 0, d.s.broken(d.s.in.offset(), err)
	}
	return n, nil
}

// counting counts what is read through it.
type counting struct {
	r  io.Reader
	at int64
}

func (c *counting) offset() int64 { return c.at }

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.at += int64(n)
	return n, err
}

func (c *counting) skip(n int64) error {
	if n <= 0 {
		return nil
	}
	_, err := io.CopyN(io.Discard, c, n)
	return err
}
