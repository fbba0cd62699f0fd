package zip

import (
	"bufio"
	"bytes"
	"errors"
	"hash/crc32"
	"io"
	"sync"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/crypt"
	"widecrate/core/fault"
)

// Versions needed to extract, 4.4.3.2, and the version of the note that the
// writer follows, 4.4.2.3.
const (
	versionStore   = 10
	versionDeflate = 20
	versionZIP64   = 45
	versionBzip2   = 46
	versionAES     = 51
	versionLatest  = 63
	versionMadeBy  = hostUnix<<8 | versionLatest
)

// Writer writes a ZIP archive. Entries are compressed where that makes them
// smaller. ZIP64 records appear only where a value needs them.
type Writer struct {
	options   archive.WriteOptions
	method    codec.Method
	out       *bufio.Writer
	patch     io.WriterAt // nil: what comes late goes after the data instead
	split     Segmented   // nil: the archive is one file
	offset    int64       // in the whole
	directory bytes.Buffer
	comment   []byte
	entries   uint64
	copying   []byte // for AddPacked
}

// NewWriter starts an archive at the current position of w. Where w is also an
// io.WriterAt, its offset 0 must be the start of the archive. The method must be
// one of those of Format.
func NewWriter(w io.Writer, o archive.WriteOptions) *Writer {
	if o.Method == "" {
		o.Method = codec.Deflate
	}
	if o.Encode.Set && o.Encode.Level == 0 {
		o.Method = codec.Store
	}
	method, _ := codec.ByName(o.Method)
	patch, _ := w.(io.WriterAt)
	return &Writer{options: o, method: method, out: bufio.NewWriterSize(w, 256<<10), patch: patch}
}

// shortestPacked is the least data that a method can make smaller: a block of
// deflate costs ten bits by itself, a match another twelve.
const shortestPacked = 5

// header has the values of a local header that go into the directory as well.
type header struct {
	entry archive.Entry
	name  string // with the '/' of a folder
	flags uint16
	at    place
	zip64 bool // the local header has room for 8-byte sizes
}

// start makes the header of a new entry. A name that ZIP cannot hold is of kind
// fault.Usage.
func (w *Writer) start(e archive.Entry) (header, error) {
	h := header{entry: e, name: e.Path}
	switch e.Kind {
	case archive.Folder:
		h.name += "/"
	case archive.Symlink, archive.File:
	default:
		return h, fault.New(fault.Usage, "a ZIP archive cannot hold a %s", e.Kind)
	}
	if e.Path == "" || len(h.name) > max16 {
		return h, fault.New(fault.Usage, "a ZIP archive cannot hold a path of %d bytes", len(h.name))
	}
	if !ascii(h.name) && utf8.ValidString(h.name) {
		h.flags |= flagUTF8
	}
	h.entry.Encrypted = w.options.Password != "" && e.Kind != archive.Folder
	if h.entry.Encrypted {
		h.flags |= flagEncrypted
	}
	return h, nil
}

// blocks hold what is read of an entry before it is known how long that is.
var blocks = sync.Pool{New: func() any { return new([archive.PrepareLimit + 1]byte) }}

// Add writes one entry; see archive.Writer. A name that ZIP cannot hold is of
// kind fault.Usage; data that disagrees with e.Size, of kind fault.Unreadable.
func (w *Writer) Add(e archive.Entry, content io.Reader) (archive.Entry, error) {
	h, err := w.start(e)
	if err != nil {
		return e, err
	}
	switch e.Kind {
	case archive.Folder:
		content = bytes.NewReader(nil)
	case archive.Symlink:
		content = bytes.NewReader([]byte(e.Link))
	}
	block := blocks.Get().(*[archive.PrepareLimit + 1]byte)
	defer blocks.Put(block)
	n, err := io.ReadFull(content, block[:])
	switch {
	case err == io.EOF, errors.Is(err, io.ErrUnexpectedEOF):
		var packed []byte
		if h.entry, packed, err = w.Prepare(e, block[:n]); err == nil {
			err = w.AddPrepared(h.entry, packed)
		}
		return h.entry, err
	case err != nil:
		return e, err
	}
	if err := w.addLong(&h, io.MultiReader(bytes.NewReader(block[:]), content)); err != nil {
		return e, err
	}
	if e.Kind == archive.File && e.Size != archive.Unknown && e.Size != h.entry.Size {
		return e, changed(e.Size, h.entry.Size)
	}
	w.addCentral(h)
	return h.entry, nil
}

func changed(before, now int64) error {
	return fault.New(fault.Unreadable, "it changed while it was read: %d bytes at first, %d now", before, now)
}

// Abort does nothing: a Writer has no goroutines between two entries.
func (w *Writer) Abort() {}

// Prepare packs an entry whose data is all there; see archive.Preparer.
func (w *Writer) Prepare(e archive.Entry, content []byte) (archive.Entry, []byte, error) {
	h, err := w.start(e)
	if err != nil {
		return e, nil, err
	}
	if e.Kind == archive.File && e.Size != archive.Unknown && e.Size != int64(len(content)) {
		return e, nil, changed(e.Size, int64(len(content)))
	}
	e = h.entry
	e.CRC32, e.HasCRC32, e.Size = crc32.ChecksumIEEE(content), true, int64(len(content))
	e.Method = codec.Store
	packed := content
	if w.options.Method != codec.Store && len(content) >= shortestPacked {
		var b bytes.Buffer
		one := w.options.Encode
		one.Workers = 1
		if err := pack(&b, w.method, one, bytes.NewReader(content)); err != nil {
			return e, nil, err
		}
		if b.Len() < len(content) {
			e.Method, packed = w.options.Method, b.Bytes()
		}
	}
	if e.Encrypted {
		e.HasCRC32 = false // the code says, of the second version of AES in ZIP
		var b bytes.Buffer
		if err := w.lock(&b, func(to io.Writer) error {
			_, err := to.Write(bytes.Clone(packed))
			return err
		}); err != nil {
			return e, nil, err
		}
		packed = b.Bytes()
	}
	e.Packed = int64(len(packed))
	return e, packed, nil
}

// lock writes data encrypted: a salt and a check in front of it, a code after it.
func (w *Writer) lock(out io.Writer, write func(io.Writer) error) error {
	keys, front, err := crypt.Lock(w.options.Password, aesStrength)
	if err != nil {
		return err
	}
	if _, err := out.Write(front); err != nil {
		return err
	}
	to, err := keys.Writer(out)
	if err == nil {
		err = write(to)
	}
	if err != nil {
		return err
	}
	return to.Close()
}

// AddPrepared writes an entry as Prepare gave it.
func (w *Writer) AddPrepared(e archive.Entry, packed []byte) error {
	h, err := w.start(e)
	if err != nil {
		return err
	}
	if h.at, err = w.record(h.local(e.Packed, e.Size)); err != nil {
		return err
	}
	if err := w.write(packed); err != nil {
		return err
	}
	w.addCentral(h)
	return nil
}

// addLong writes an entry in one pass: sizes and checksum are known only
// afterwards, and go into the header where that can be reached again, or else
// after the data (4.3.9).
func (w *Writer) addLong(h *header, content io.Reader) error {
	// What the start of the data is like says nothing of the rest: the methods
	// keep a block that does not get smaller as it is.
	e := &h.entry
	e.Method = w.options.Method
	// Stored or hardly compressible data may come out a little larger.
	h.zip64 = e.Size == archive.Unknown || e.Size >= max32-max32/256
	if w.patch == nil {
		h.flags |= flagDescriptor
	}
	e.HasCRC32 = !e.Encrypted
	var err error
	if h.at, err = w.record(h.local(0, 0)); err != nil {
		return err
	}
	start := w.offset
	in := &counted{r: content}
	packInto := func(to io.Writer) error { return pack(to, w.method, w.options.Encode, in) }
	if out := writerFunc(w.write); e.Encrypted {
		err = w.lock(out, packInto)
	} else {
		err = packInto(out)
	}
	if err != nil {
		return err
	}
	e.CRC32, e.Size, e.Packed = in.sum, in.size, w.offset-start
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
	if _, err := w.patch.WriteAt(h.local(e.Packed, e.Size), h.at.offset); err != nil {
		return fault.Writing("", err)
	}
	return nil
}

// pack compresses all of content into dst.
func pack(dst io.Writer, m codec.Method, o codec.EncodeOptions, content io.Reader) error {
	enc, err := m.Encode(dst, o)
	if err != nil {
		return err
	}
	_, err = io.Copy(enc, content)
	if closed := enc.Close(); err == nil {
		err = closed
	}
	return err
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
	extra = h.appendExtra(extra)
	date, clock := dosTime(e.Modified)
	b := le.AppendUint32(w.directory.AvailableBuffer(), centralSignature)
	for _, v := range []uint16{versionMadeBy, h.version(), h.flags, h.method(), clock, date} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{h.crc(), packed, size} {
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
