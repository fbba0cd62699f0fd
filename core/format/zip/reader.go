package zip

import (
	"io"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// Reader reads a ZIP archive at any entry.
type Reader struct {
	r       io.ReaderAt
	parts   segments
	end     end
	entries []archive.Entry
	records []record
	stored  map[int]string // names that differ from the paths; see storedName
	broken  error          // why entries may be missing

	names    names
	beside   []archive.Remark // on what stands in front and behind
	comments []string         // of the archive, and of the first entries that have one

	maxMemory  int64
	dictionary []byte
	passwords  passwords
	opened     atomic.Bool // one of them was right
}

// Open reads the directory of the archive of size bytes in r. What the
// directory says is checked against the file here: a directory that is missing
// or contradicts itself is of kind fault.Damaged, entries that overlap are of
// kind fault.Unsafe. Local headers and data are checked by Reader.Open.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	z := newReader(r, o)
	err := z.readDirectory(size, o)
	if o.Salvage && fault.Of(err) == fault.Damaged {
		return salvage(r, size, o, err)
	}
	if err != nil {
		return nil, err
	}
	return z, nil
}

func newReader(r io.ReaderAt, o archive.Options) *Reader {
	z := &Reader{r: r, parts: segments(o.Parts), maxMemory: o.MaxMemory, dictionary: o.Dictionary}
	z.passwords.list, z.passwords.used = o.Passwords, make([]atomic.Bool, len(o.Passwords))
	z.names.encoding = o.Encoding
	return z
}

func (z *Reader) readDirectory(size int64, o archive.Options) error {
	c := newCached(z.r)
	defer c.release()
	e, err := findEnd(c, size, z.parts)
	if err != nil {
		return err
	}
	z.end = e
	if len(e.comment) > 0 {
		z.comments = append(z.comments, "comment: "+z.names.decode(string(e.comment), false, nil))
	}
	if err := z.readEntries(c, e, o); err != nil {
		return err
	}
	z.beside = z.around(c, size)
	return z.checkParts()
}

// mostComments bounds how many are kept.
const mostComments = 1000

// Remarks are what was assumed of names, what stands in front, and comments.
func (z *Reader) Remarks() []archive.Remark {
	remarks := append(z.names.remarks(), z.beside...)
	for _, comment := range z.comments {
		remarks = append(remarks, archive.Remark{Text: comment})
	}
	return remarks
}

func zoneOf(o archive.Options) *time.Location {
	if o.Zone != nil {
		return o.Zone
	}
	return time.Local
}

// Entries lists the archive in the order of its directory.
func (z *Reader) Entries() []archive.Entry { return z.entries }

// Close does nothing: a Reader holds no more than memory.
func (z *Reader) Close() error { return nil }

// longestField bounds the name, and the extra field, of a local header.
const longestField = 1<<16 - 1

// Extent is that of archive.Extents.
func (z *Reader) Extent(i int) (from, to int64) {
	e := &z.entries[i]
	return e.Offset, min(z.records[i].limit, e.Offset+localLength+2*longestField+e.Packed+descriptorLength)
}

// Stored is that of archive.Stores.
func (z *Reader) Stored(i int) (from, size int64, err error) {
	e, rec := &z.entries[i], &z.records[i]
	if e.Method != codec.Store || e.Encrypted || e.Size != e.Packed {
		return 0, archive.Unknown, nil
	}
	d := z.data(i)
	block := make([]byte, min(localLength+int64(len(z.storedName(i))), rec.limit-e.Offset))
	if _, err := z.r.ReadAt(block, e.Offset); err != nil {
		return 0, 0, fault.Reading("", err)
	}
	header, err := d.checkLocal(block)
	if err != nil {
		return 0, 0, fault.New(fault.Damaged, "local header at offset %d: %w", e.Offset, err)
	}
	return e.Offset + int64(header), e.Size, nil
}

// An entry whose header and data fit into one piece is read at once, another
// one through a buffer of that size.
const piece = 128 << 10

// Open returns the data of entry i after checking its local header against the
// directory. See archive.Reader.
func (z *Reader) Open(i int) (io.ReadCloser, error) {
	e, rec := &z.entries[i], &z.records[i]
	if rec.flags&flagStrong != 0 {
		return nil, fault.New(fault.Password, "it is locked in a way that widecrate does not read")
	}
	method, ok := codec.ByName(e.Method)
	if !ok {
		return nil, fault.New(fault.Damaged, "its compression method %d (%s) is %w", rec.method, e.Method, archive.ErrUnsupported).Advise("have it packed as deflate or zstd; fetching it again would not help")
	}
	if e.Method == codec.Store && !e.Encrypted && e.Size != e.Packed {
		return nil, fault.New(fault.Damaged, "it is stored, yet its packed size %d differs from its size %d", e.Packed, e.Size)
	}
	d := z.data(i)
	d.block = pieces.Get().(*[piece]byte)
	if err := d.start(method); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

func (z *Reader) data(i int) *data {
	return &data{z: z, index: i, entry: &z.entries[i], rec: &z.records[i]}
}
