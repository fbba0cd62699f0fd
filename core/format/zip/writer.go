package zip

import (
	"bufio"
	"bytes"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"time"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// Versions needed to extract, 4.4.3.2, and the version of the note that the
// writer follows, 4.4.2.3.
const (
	versionStore   = 10
	versionDeflate = 20
	versionZIP64   = 45
	versionMadeBy  = hostUnix<<8 | 63
)

// Writer writes a ZIP archive. Entries are deflated where that makes them
// smaller. ZIP64 records appear only where a value needs them.
type Writer struct {
	out       *bufio.Writer
	patch     io.WriterAt // nil: what comes late goes behind the data instead
	split     Segmented   // nil: the archive is one file
	offset    int64       // in the whole
	directory bytes.Buffer
	comment   []byte
	entries   uint64
	block     []byte
	packed    bytes.Buffer
}

// NewWriter starts an archive at the current position of w. Where w is also an
// io.WriterAt, its offset 0 must be the start of the archive.
func NewWriter(w io.Writer) *Writer {
	patch, _ := w.(io.WriterAt)
	return &Writer{out: bufio.NewWriterSize(w, 256<<10), patch: patch, block: make([]byte, wholeInMemory+1)}
}

// Data up to this size is packed in memory, so that its header is complete
// before it is written. Of longer data this much decides whether deflate pays.
const wholeInMemory = 1 << 20

// shortestDeflated is the least data that deflate can make smaller: its own
// block costs ten bits, a match another twelve.
const shortestDeflated = 5

// header has the values of a local header that go into the directory as well.
type header struct {
	entry  archive.Entry
	name   string // with the '/' of a folder
	method uint16
	flags  uint16
	at     place
	zip64  bool // the local header has room for 8-byte sizes
}

// Add writes one entry; see archive.Writer. A name that ZIP cannot hold is of
// kind fault.Usage; data that disagrees with e.Size, of kind fault.Unreadable.
func (w *Writer) Add(e archive.Entry, content io.Reader) (archive.Entry, error) {
	h := header{entry: e, name: e.Path}
	switch e.Kind {
	case archive.Folder:
		h.name += "/"
		content = bytes.NewReader(nil)
	case archive.Symlink:
		content = bytes.NewReader([]byte(e.Link))
	case archive.File:
	default:
		return e, fault.New(fault.Usage, "a ZIP archive cannot hold a %s", e.Kind)
	}
	if e.Path == "" || len(h.name) > max16 {
		return e, fault.New(fault.Usage, "a ZIP archive cannot hold a path of %d bytes", len(h.name))
	}
	if !ascii(h.name) {
		h.flags |= flagUTF8
	}
	n, err := io.ReadFull(content, w.block)
	switch {
	case err == io.EOF, errors.Is(err, io.ErrUnexpectedEOF):
		err = w.addWhole(&h, w.block[:n])
	case err == nil:
		err = w.addLong(&h, io.MultiReader(bytes.NewReader(w.block), content))
	}
	if err != nil {
		return e, err
	}
	if e.Kind == archive.File && e.Size != archive.Unknown && e.Size != h.entry.Size {
		return e, fault.New(fault.Unreadable, "it changed while it was read: %d bytes at first, %d now", e.Size, h.entry.Size)
	}
	w.addCentral(h)
	return h.entry, nil
}

// addWhole writes an entry whose data is all there.
func (w *Writer) addWhole(h *header, content []byte) error {
	e := &h.entry
	e.CRC32, e.HasCRC32, e.Size = crc32.ChecksumIEEE(content), true, int64(len(content))
	packed := content
	e.Method = codec.Store
	if len(content) >= shortestDeflated {
		w.packed.Reset()
		if err := pack(&w.packed, codec.Deflate, bytes.NewReader(content)); err != nil {
			return err
		}
		if w.packed.Len() < len(content) {
			e.Method, packed = codec.Deflate, w.packed.Bytes()
		}
	}
	h.method = methodNumbers[e.Method]
	e.Packed = int64(len(packed))
	var err error
	if h.at, err = w.record(h.local(e.CRC32, e.Packed, e.Size)); err != nil {
		return err
	}
	return w.write(packed)
}

// addLong writes an entry in one pass: sizes and checksum are known only
// afterwards, and go into the header where that can be reached again, or else
// behind the data (4.3.9).
func (w *Writer) addLong(h *header, content io.Reader) error {
	e := &h.entry
	w.packed.Reset()
	if err := pack(&w.packed, codec.Deflate, bytes.NewReader(w.block)); err != nil {
		return err
	}
	e.Method = codec.Deflate
	if w.packed.Len() >= len(w.block) {
		e.Method = codec.Store
	}
	h.method = methodNumbers[e.Method]
	// Stored or hardly compressible data may come out a little larger.
	h.zip64 = e.Size == archive.Unknown || e.Size >= max32-max32/256
	if w.patch == nil {
		h.flags |= flagDescriptor
	}
	var err error
	if h.at, err = w.record(h.local(0, 0, 0)); err != nil {
		return err
	}
	start := w.offset
	in := &counted{r: content}
	if err := pack(writerFunc(w.write), e.Method, in); err != nil {
		return err
	}
	e.CRC32, e.HasCRC32, e.Size, e.Packed = in.sum, true, in.size, w.offset-start
	if !h.zip64 && (e.Size >= max32 || e.Packed >= max32) {
		return fault.New(fault.Unreadable, "it grew beyond 4 GiB while it was read")
	}
	if w.patch == nil {
		_, err := w.record(h.descriptor())
		return err
	}
	if err := w.out.Flush(); err != nil {
		return fault.Writing("", err)
	}
	if _, err := w.patch.WriteAt(h.local(e.CRC32, e.Packed, e.Size), h.at.offset); err != nil {
		return fault.Writing("", err)
	}
	return nil
}

// pack compresses all of content into dst.
func pack(dst io.Writer, method string, content io.Reader) error {
	m, _ := codec.ByName(method)
	enc, err := m.Encode(dst)
	if err != nil {
		return err
	}
	_, err = io.Copy(enc, content)
	if closed := enc.Close(); err == nil {
		err = closed
	}
	return err
}

// local encodes the local header (4.3.7).
func (h *header) local(crc uint32, packed, size int64) []byte {
	date, clock := dosTime(h.entry.Modified)
	b := le.AppendUint32(nil, localSignature)
	b = le.AppendUint16(b, h.version())
	b = le.AppendUint16(b, h.flags)
	b = le.AppendUint16(b, h.method)
	b = le.AppendUint16(b, clock)
	b = le.AppendUint16(b, date)
	b = le.AppendUint32(b, crc)
	var extra []byte
	if h.zip64 {
		extra = appendZIP64(extra, size, packed)
		size, packed = max32, max32
	}
	extra = appendTimestamp(extra, h.entry.Modified)
	b = le.AppendUint32(b, uint32(packed))
	b = le.AppendUint32(b, uint32(size))
	b = le.AppendUint16(b, uint16(len(h.name)))
	b = le.AppendUint16(b, uint16(len(extra)))
	b = append(b, h.name...)
	return append(b, extra...)
}

// descriptor encodes the record behind the data (4.3.9).
func (h *header) descriptor() []byte {
	b := le.AppendUint32(nil, descriptorSignature)
	b = le.AppendUint32(b, h.entry.CRC32)
	if h.zip64 {
		b = le.AppendUint64(b, uint64(h.entry.Packed))
		return le.AppendUint64(b, uint64(h.entry.Size))
	}
	b = le.AppendUint32(b, uint32(h.entry.Packed))
	return le.AppendUint32(b, uint32(h.entry.Size))
}

func (h *header) version() uint16 {
	switch {
	case h.zip64:
		return versionZIP64
	case h.method == methodNumbers[codec.Store] && h.entry.Kind != archive.Folder:
		return versionStore
	}
	return versionDeflate
}

// addCentral adds the entry to the central directory (4.3.12).
func (w *Writer) addCentral(h header) {
	e := h.entry
	var wide []int64
	short := func(v int64) uint32 {
		if v >= max32 {
			wide = append(wide, v)
			return max32
		}
		return uint32(v)
	}
	size, packed, offset := short(e.Size), short(e.Packed), short(h.at.offset)
	var extra []byte
	if wide != nil {
		h.zip64 = true
		extra = appendZIP64(extra, wide...)
	}
	extra = appendTimestamp(extra, e.Modified)
	date, clock := dosTime(e.Modified)
	b := le.AppendUint32(w.directory.AvailableBuffer(), centralSignature)
	for _, v := range []uint16{versionMadeBy, h.version(), h.flags, h.method, clock, date} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{e.CRC32, packed, size} {
		b = le.AppendUint32(b, v)
	}
	for _, v := range []uint16{uint16(len(h.name)), uint16(len(extra)), 0, h.at.disk, 0} { // … comment, disk, internal attributes
		b = le.AppendUint16(b, v)
	}
	b = le.AppendUint32(b, attributes(e))
	b = le.AppendUint32(b, offset)
	b = append(b, h.name...)
	w.directory.Write(append(b, extra...))
	w.entries++
}

// attributes encodes kind and permissions (4.4.15).
func attributes(e archive.Entry) uint32 {
	if !e.HasMode {
		e.Mode = 0o644
		if e.Kind == archive.Folder {
			e.Mode = 0o755
		}
	}
	mode, dos := uint32(e.Mode&fs.ModePerm), uint32(0)
	switch e.Kind {
	case archive.Folder:
		mode |= unixFolder
		dos |= dosFolder
	case archive.Symlink:
		mode |= unixSymlink
	default:
		mode |= unixFile
	}
	if e.Mode&0o200 == 0 {
		dos |= dosReadOnly
	}
	return mode<<16 | dos
}

func appendZIP64(extra []byte, values ...int64) []byte {
	extra = le.AppendUint16(extra, extraZIP64)
	extra = le.AppendUint16(extra, uint16(8*len(values)))
	for _, v := range values {
		extra = le.AppendUint64(extra, uint64(v))
	}
	return extra
}

// appendTimestamp adds the extended timestamp for what its 32 bits can hold.
func appendTimestamp(extra []byte, t time.Time) []byte {
	seconds := t.Unix()
	if t.IsZero() || seconds != int64(int32(seconds)) {
		return extra
	}
	extra = le.AppendUint16(extra, extraTimestamp)
	extra = le.AppendUint16(extra, 5)
	return le.AppendUint32(append(extra, 1), uint32(seconds))
}

// Close writes the central directory and the records at the end.
func (w *Writer) Close() error {
	d, err := w.writeDirectory()
	if err != nil {
		return err
	}
	length, start := int64(w.directory.Len()), d.start.offset
	wide := w.entries >= max16 || length >= max32 || start >= max32
	room := endLength + len(w.comment)
	if wide {
		room += end64Length + locatorLength
	}
	at, err := w.reserve(room)
	if err != nil {
		return err
	}
	if at.disk != d.last {
		d.onLast = 0
	}
	var b []byte
	if wide {
		b = le.AppendUint32(b, end64Signature)
		b = le.AppendUint64(b, end64Length-12) // without this field and the signature
		b = le.AppendUint16(b, versionMadeBy)
		b = le.AppendUint16(b, versionZIP64)
		b = le.AppendUint32(b, uint32(at.disk))
		b = le.AppendUint32(b, uint32(d.start.disk))
		for _, v := range []uint64{d.onLast, w.entries, uint64(length), uint64(start)} {
			b = le.AppendUint64(b, v)
		}
		b = le.AppendUint32(b, locatorSignature)
		b = le.AppendUint32(b, uint32(at.disk)) // of the ZIP64 end record
		b = le.AppendUint64(b, uint64(at.offset))
		b = le.AppendUint32(b, uint32(at.disk)+1) // number of disks
	}
	b = le.AppendUint32(b, endSignature)
	for _, v := range []uint16{at.disk, d.start.disk, uint16(min(d.onLast, max16)), uint16(min(w.entries, max16))} {
		b = le.AppendUint16(b, v)
	}
	b = le.AppendUint32(b, uint32(min(length, max32)))
	b = le.AppendUint32(b, uint32(min(start, max32)))
	b = le.AppendUint16(b, uint16(len(w.comment)))
	if err := w.write(append(b, w.comment...)); err != nil {
		return err
	}
	return fault.Writing("", w.out.Flush())
}

func (w *Writer) write(b []byte) error {
	n, err := w.out.Write(b)
	w.offset += int64(n)
	return fault.Writing("", err)
}

type writerFunc func([]byte) error

func (f writerFunc) Write(p []byte) (int, error) {
	if err := f(p); err != nil {
		return 0, err
	}
	return len(p), nil
}

// counted counts and sums what is read through it.
type counted struct {
	r    io.Reader
	size int64
	sum  uint32
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.size += int64(n)
	c.sum = crc32.Update(c.sum, crc32.IEEETable, p[:n])
	return n, err
}
