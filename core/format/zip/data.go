package zip

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"sync"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/codec/early"
	"widecrate/core/crypt"
	"widecrate/core/fault"
)

var (
	pieces  = sync.Pool{New: func() any { return new([piece]byte) }}
	buffers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, piece) }}
)

func getBuffer(r io.Reader) *bufio.Reader {
	b := buffers.Get().(*bufio.Reader)
	b.Reset(r)
	return b
}

func putBuffer(b *bufio.Reader) {
	b.Reset(nil)
	buffers.Put(b)
}

// data decodes one entry and checks it on the way.
type data struct {
	z     *Reader
	index int
	entry *archive.Entry
	rec   *record

	block    *[piece]byte  // what was read along with the local header,
	inBlock  codec.Bytes   // with all of the packed data; where that is longer,
	section  *section      // of the packed data
	stream   *bufio.Reader // through a buffer
	packed   codec.Source  // inBlock or stream
	position int64         // of the packed data, in the file
	flags    uint16        // of the local header

	decoder io.ReadCloser
	sum     uint32
	size    int64
	err     error

	doubtful bool // several passwords may be right, and it can be read with none
}

func (d *data) start(method codec.Method) error {
	n := min(piece, d.rec.limit-d.entry.Offset)
	block := d.block[:n]
	if _, err := d.z.r.ReadAt(block, d.entry.Offset); err != nil {
		return fault.Reading("", err)
	}
	header, err := d.checkLocal(block)
	if err != nil {
		return fault.New(fault.Damaged, "local header at offset %d: %w", d.entry.Offset, err)
	}
	d.position = d.entry.Offset + int64(header)
	if d.position+d.entry.Packed > d.rec.limit {
		return fault.New(fault.Unsafe, "its data at offset %d overlaps what follows", d.position)
	}
	if d.entry.Encrypted {
		r, err := d.unlock(method)
		if err == nil {
			err = d.locked(d.decode(method, r))
		}
		return err
	}
	if whole := int64(header) + d.entry.Packed; whole <= n {
		d.inBlock.Reset(block[header:whole])
		d.packed = &d.inBlock
	} else {
		d.section = &section{d.z.r, d.position, d.entry.Packed}
		d.stream = getBuffer(d.section)
		d.packed = d.stream
	}
	d.decoder, err = method.Decode(d.packed, d.options())
	if err != nil && !fault.Known(err) {
		err = fault.New(fault.Damaged, "its data does not start as it should: %w", err)
	}
	return err
}

// options are those of the decoder, which has flags of its own for two methods (4.4.4).
func (d *data) options() codec.Options {
	return codec.Options{
		MaxMemory: d.z.maxMemory, Dictionary: d.z.dictionary, Size: d.entry.Size, NoEnd: d.rec.flags&flagLZMAEnd == 0,
		Imploded: early.Layout{Large: d.rec.flags&flagLarge != 0, Literals: d.rec.flags&flagLiterals != 0},
	}
}

// checkLocal checks the local header (4.3.7) at the start of block against the
// directory and returns its length.
func (d *data) checkLocal(block []byte) (int, error) {
	f := fields{b: block}
	if f.uint32() != localSignature {
		return 0, errors.New("there is none")
	}
	f.uint16() // version needed
	d.flags = f.uint16()
	method := f.uint16()
	f.uint32() // time and date
	crc, packed, size := f.uint32(), uint64(f.uint32()), uint64(f.uint32())
	nameLength, extraLength := int(f.uint16()), int(f.uint16())
	length := localLength + nameLength + extraLength
	if d.entry.Offset+int64(length) > d.rec.limit {
		return 0, errors.New("it reaches into what follows")
	}
	if length > len(block) { // a very long name and extra field
		block = make([]byte, length)
		if _, err := d.z.r.ReadAt(block, d.entry.Offset); err != nil {
			return 0, err
		}
	}
	f.b = block[localLength:length]
	if name := f.take(nameLength); string(name) != d.z.storedName(d.index) {
		return 0, fmt.Errorf("its name %s is not that of the directory", quote(string(name)))
	}
	if method != d.rec.method || d.flags&flagEncrypted != d.rec.flags&flagEncrypted {
		return 0, errors.New("its method is not that of the directory")
	}
	if d.flags&flagDescriptor != 0 {
		return length, nil // sizes and checksum follow the data
	}
	wide := newZIP64(f.b)
	wide.widen(&size)
	wide.widen(&packed)
	if crc != d.entry.CRC32 && d.entry.HasCRC32 || packed != uint64(d.entry.Packed) || size != uint64(d.entry.Size) {
		return 0, errors.New("its sizes or checksum are not those of the directory")
	}
	return length, nil
}

func (d *data) Read(p []byte) (int, error) {
	if d.err != nil {
		return 0, d.err
	}
	n, err := d.decoder.Read(p)
	if tooLong := d.count(p[:n]); tooLong != nil {
		err = tooLong
	}
	d.err = d.judge(err)
	return n, d.err
}

// WriteTo writes all of the data to w, from where it was decoded to where that
// is possible.
func (d *data) WriteTo(w io.Writer) (int64, error) {
	direct, ok := d.decoder.(io.WriterTo)
	if !ok {
		block := pieces.Get().(*[piece]byte)
		defer pieces.Put(block)
		return io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{d}, block[:])
	}
	if d.err != nil {
		return 0, d.err
	}
	onto := counting{d: d, w: w}
	n, err := direct.WriteTo(&onto)
	if onto.err != nil {
		d.err = onto.err
		return n, d.err
	}
	if d.err = d.judge(cmp.Or(err, io.EOF)); d.err != io.EOF {
		return n, d.err
	}
	return n, nil
}

// counting counts what is written.
type counting struct {
	d   *data
	w   io.Writer
	err error // of w
}

func (c *counting) Write(p []byte) (n int, err error) {
	if err := c.d.count(p); err != nil {
		return 0, err
	}
	n, c.err = c.w.Write(p)
	return n, c.err
}

// count takes note of decoded data.
func (d *data) count(p []byte) error {
	d.sum = crc32.Update(d.sum, crc32.IEEETable, p)
	d.size += int64(len(p))
	if d.size > d.entry.Size {
		return fault.New(fault.Damaged, "its data is longer than the %d bytes that the directory says", d.entry.Size)
	}
	return nil
}

// judge says what an error of the decoder means; at the end, all that was decoded
// is checked against the directory.
func (d *data) judge(err error) error {
	switch {
	case err == io.EOF:
		if checked := d.check(); checked != nil {
			err = checked
		}
	case err != nil && !fault.Known(err):
		err = fault.New(fault.Damaged, "its data breaks after %d bytes: %w", d.size, err)
	}
	if err != nil && err != io.EOF {
		err = d.atBorder(d.locked(err))
	}
	return err
}

// check checks the decoded data against the directory.
func (d *data) check() error {
	switch {
	case d.size < d.entry.Size:
		return fault.New(fault.Damaged, "its data ends after %d bytes where the directory says %d", d.size, d.entry.Size)
	case d.entry.HasCRC32 && d.sum != d.entry.CRC32:
		return fault.New(fault.Damaged, "its data has CRC-32 %08x where the directory says %08x", d.sum, d.entry.CRC32)
	}
	switch _, err := d.packed.ReadByte(); {
	case errors.Is(err, crypt.ErrCode):
		return err
	case err != io.EOF:
		return fault.New(fault.Damaged, "its data ends before the %d packed bytes that the directory says", d.entry.Packed)
	}
	if d.flags&flagDescriptor != 0 {
		_, err := d.descriptor()
		return err
	}
	return nil
}

// descriptor returns the record after the data (4.3.9) after checking it against
// the directory: it is with or without signature, with sizes of 4 or 8 bytes. It is nil
// where there is none after all.
func (d *data) descriptor() ([]byte, error) {
	at := d.position + d.entry.Packed
	record := make([]byte, min(descriptorLength, d.rec.limit-at))
	if _, err := d.z.r.ReadAt(record, at); err != nil {
		return nil, fault.Reading("", err)
	}
	wide := le.AppendUint32(nil, d.entry.CRC32)
	narrow := bytes.Clone(wide)
	for _, size := range []int64{d.entry.Packed, d.entry.Size} {
		wide = le.AppendUint64(wide, uint64(size))
		narrow = le.AppendUint32(narrow, uint32(size))
	}
	unsigned := bytes.TrimPrefix(record, le.AppendUint32(nil, descriptorSignature))
	// Where both lengths fit, the longer one is meant: sizes below 4 GiB in 8
	// bytes have zeros where the shorter one ends.
	for _, sizes := range [][]byte{wide, narrow} {
		for _, r := range [][]byte{record, unsigned} {
			if bytes.HasPrefix(r, sizes) {
				return record[:len(record)-len(r)+len(sizes)], nil
			}
		}
	}
	if d.saidBefore(record) {
		return nil, nil
	}
	return nil, fault.New(fault.Damaged, "the record behind its data, at offset %d, contradicts the directory", at)
}

// saidBefore reports whether an entry has no record behind its data, although its flags say
// so: its local header has all of that, and the next header follows.
func (d *data) saidBefore(behind []byte) bool {
	if len(behind) >= 4 && le.Uint32(behind) != localSignature && le.Uint32(behind) != centralSignature {
		return false
	}
	var local [localLength]byte
	if _, err := d.z.r.ReadAt(local[:], d.entry.Offset); err != nil {
		return false
	}
	return le.Uint32(local[14:]) == d.entry.CRC32 && int64(le.Uint32(local[18:])) == d.entry.Packed && int64(le.Uint32(local[22:])) == d.entry.Size
}

// Close gives the buffers back.
func (d *data) Close() error {
	d.err = errors.New("read after close")
	if d.decoder != nil {
		d.decoder.Close()
		d.decoder = nil
	}
	if d.stream != nil {
		putBuffer(d.stream)
		d.stream = nil
	}
	if d.block != nil {
		pieces.Put(d.block)
		d.block = nil
	}
	return nil
}

// section reads the packed bytes of one entry. Unlike the one of package io it
// tells a failing disk or a file that became shorter from damaged data.
type section struct {
	r              io.ReaderAt
	position, left int64
}

func (s *section) Read(p []byte) (int, error) {
	if s.left == 0 {
		return 0, io.EOF
	}
	n, err := s.r.ReadAt(p[:min(int64(len(p)), s.left)], s.position)
	s.position += int64(n)
	s.left -= int64(n)
	switch {
	case n > 0:
		return n, nil
	case err == io.EOF:
		return 0, fault.New(fault.Unreadable, "the archive became shorter while it was read")
	}
	return 0, fault.Reading("", err)
}
