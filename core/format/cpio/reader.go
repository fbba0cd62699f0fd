package cpio

import (
	"fmt"
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Reader reads a cpio archive at any entry: its headers were gone through once.
type Reader struct {
	r       io.ReaderAt
	entries []archive.Entry
	data    []blob.Range
	sums    map[int]uint32
	broken  error // why entries may be missing
}

// Open goes through the headers of the archive of size bytes in r. Headers that are
// wrong, and data that is cut off, are of kind fault.Damaged. Where a packed archive
// follows, the error is archive.ErrOrdered.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	p := &parser{in: &front{Front: blob.FrontOf(r, size)}, account: o.Names, files: o.Files, charset: o.Encoding}
	z := &Reader{r: r}
	for {
		m, err := p.next()
		if err == io.EOF {
			return z, nil
		}
		if err == errPacked {
			return nil, archive.ErrOrdered
		}
		if err == nil && p.in.Skip(m.Size+m.padding) != nil && m.at+m.Size > size {
			err = fault.New(fault.Damaged, "%w", &archive.Break{Offset: m.at, CutOff: true, Err: fmt.Errorf("the data of %q at offset %d is cut off", m.Path, m.at)})
		}
		if err != nil {
			if o.Salvage && fault.Of(err) == fault.Damaged && z.entries != nil {
				z.broken = err
				return z, nil
			}
			return nil, err
		}
		if m.summed {
			if z.sums == nil {
				z.sums = map[int]uint32{}
			}
			z.sums[len(z.entries)] = m.sum
		}
		z.entries, z.data = append(z.entries, m.Entry), append(z.data, blob.Range{From: m.at, To: m.at + m.Size})
	}
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

// Open returns the data of entry i, with its checksum where it has one.
func (z *Reader) Open(i int) (io.ReadCloser, error) {
	data := blob.Extents(z.r, z.data[i])
	if sum, summed := z.sums[i]; summed {
		return io.NopCloser(&summing{r: data, want: sum}), nil
	}
	return data, nil
}

// summing checks the sum of all bytes, as numbers, at the end of the data.
type summing struct {
	r    io.Reader
	sum  uint32
	want uint32
}

func (s *summing) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	for _, b := range p[:n] {
		s.sum += uint32(b)
	}
	if err == io.EOF && s.sum != s.want {
		err = fault.New(fault.Damaged, "its data has the checksum %08x where its header says %08x", s.sum, s.want)
	}
	return n, err
}

// Stream reads a cpio archive as its bytes arrive.
type Stream struct {
	parser
	options archive.Options
	m       *member
	data    io.Reader
	left    int64 // stored bytes of the entry that were not read
	unpack  []io.Closer
}

// NewStream reads an archive from r. Errors of r are returned as they are.
func NewStream(r io.Reader, o archive.Options) *Stream {
	return &Stream{parser: parser{in: &front{Front: blob.FrontStream(r)}, account: o.Names, files: o.Files, charset: o.Encoding}, options: o}
}

// Next moves to the next entry; see archive.Stream.
func (s *Stream) Next() (archive.Entry, error) {
	if s.m != nil {
		if err := s.in.Skip(s.left + s.m.padding); err != nil {
			return archive.Entry{}, s.cut(err)
		}
		s.m, s.left = nil, 0
	}
	m, err := s.next()
	if err == errPacked {
		var d io.Closer
		if d, err = s.parser.unpack(s.options); err != nil {
			return archive.Entry{}, unpacking(err)
		}
		s.unpack = append(s.unpack, d)
		m, err = s.next()
	}
	if err != nil {
		return archive.Entry{}, unpacking(err)
	}
	s.m, s.left = m, m.Size
	s.data = io.LimitReader(stored{s}, m.Size)
	if m.summed {
		s.data = &summing{r: s.data, want: m.sum}
	}
	return m.Entry, nil
}

// unpacking makes damage of an error of a decoder.
func unpacking(err error) error {
	if err == io.EOF || fault.Known(err) {
		return err
	}
	return fault.New(fault.Damaged, "the compressed data is damaged: %w", err)
}

func (s *Stream) cut(err error) error {
	if fault.CutOff(err) {
		return fault.New(fault.Damaged, "the archive is cut off in the data of %q", s.m.Path)
	}
	return unpacking(err)
}

// Read reads the data of the current entry.
func (s *Stream) Read(p []byte) (int, error) {
	if s.m == nil {
		return 0, io.EOF
	}
	return s.data.Read(p)
}

// Close lets go of decoders; what the stream reads from is its maker's.
func (s *Stream) Close() error {
	for _, d := range s.unpack {
		d.Close()
	}
	return nil
}

// stored reads what an entry has in the archive.
type stored struct{ s *Stream }

func (d stored) Read(p []byte) (int, error) {
	n, err := d.s.in.Read(p)
	d.s.left -= int64(n)
	if err != nil && n == 0 {
		return 0, d.s.cut(err)
	}
	return n, nil
}
