package codec

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"
	"math"
	"slices"

	"widecrate/core/fault"
)

// The fields of The .xz File Format, version 1.2: section 2.1.1 (stream header),
// 2.1.2 (footer), 3.1 (block header) and 4 (index).

// xzEnds is the size of the header of a stream, and of its footer.
const xzEnds = 12

// The types of check (2.1.1.2) that are read.
const (
	xzNone   = 0
	xzCRC32  = 1
	xzCRC64  = 4
	xzSHA256 = 10
)

// xzCheck sums up what is in a block.
type xzCheck struct {
	size int64
	new  func() hash.Hash
}

var ecma = crc64.MakeTable(crc64.ECMA)

var xzChecks = map[byte]xzCheck{
	xzNone:   {0, func() hash.Hash { return noSum{crc32.NewIEEE()} }},
	xzCRC32:  {4, func() hash.Hash { return littleEndian{crc32.NewIEEE()} }},
	xzCRC64:  {8, func() hash.Hash { return littleEndian{crc64.New(ecma)} }},
	xzSHA256: {sha256.Size, sha256.New},
}

type noSum struct{ hash.Hash }

func (noSum) Write(p []byte) (int, error) { return len(p), nil }
func (noSum) Sum(b []byte) []byte         { return b }

// littleEndian turns the bytes of a sum round.
type littleEndian struct{ hash.Hash }

func (h littleEndian) Sum(b []byte) []byte {
	sum := h.Hash.Sum(nil)
	for i := range sum {
		b = append(b, sum[len(sum)-1-i])
	}
	return b
}

// xzRecord is what an index says of a block.
type xzRecord struct {
	unpadded int64 // header, packed data and check
	size     int64
}

// padded is how much of the file a block takes.
func (r xzRecord) padded() int64 { return (r.unpadded + 3) &^ 3 }

func xzStreamHeader(check byte) []byte {
	flags := []byte{0, check}
	return binary.LittleEndian.AppendUint32(append(bytes.Clone(xzMagic), flags...), crc32.ChecksumIEEE(flags))
}

// parseXZStreamHeader returns the type of check.
func parseXZStreamHeader(b []byte) (check byte, err error) {
	switch {
	case !bytes.Equal(b[:6], xzMagic):
		return 0, errors.New("no xz stream begins where one should")
	case crc32.ChecksumIEEE(b[6:8]) != binary.LittleEndian.Uint32(b[8:]):
		return 0, errors.New("the header of a stream contradicts its checksum")
	case b[6] != 0 || b[7]&0xf0 != 0:
		return 0, errors.New("the header of a stream has flags that there are not")
	}
	if _, known := xzChecks[b[7]]; !known {
		return 0, fmt.Errorf("its check of type %d is none that is read", b[7])
	}
	return b[7], nil
}

// xzStreamEnd is the index and the footer of a stream.
func xzStreamEnd(records []xzRecord, check byte) []byte {
	b := binary.AppendUvarint([]byte{0}, uint64(len(records)))
	for _, r := range records {
		b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(r.unpadded)), uint64(r.size))
	}
	b = append(b, make([]byte, -len(b)&3)...)
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	footer := binary.LittleEndian.AppendUint32(nil, uint32(len(b)/4-1))
	footer = append(footer, 0, check)
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(footer))
	return append(append(b, footer...), 'Y', 'Z')
}

// parseXZFooter returns the size of the index in front of it.
func parseXZFooter(b []byte, check byte) (index int64, err error) {
	switch {
	case b[10] != 'Y' || b[11] != 'Z':
		return 0, errors.New("the footer of a stream is none")
	case crc32.ChecksumIEEE(b[4:10]) != binary.LittleEndian.Uint32(b):
		return 0, errors.New("the footer of a stream contradicts its checksum")
	case b[8] != 0 || b[9] != check:
		return 0, errors.New("the footer of a stream contradicts its header")
	}
	return (int64(binary.LittleEndian.Uint32(b[4:])) + 1) * 4, nil
}

// summed is what is read by the byte, and summed up.
type summed struct {
	src  io.ByteReader
	sum  hash.Hash32
	read int64
}

func newSummed(src io.ByteReader) *summed { return &summed{src: src, sum: crc32.NewIEEE()} }

func (s *summed) ReadByte() (byte, error) {
	c, err := s.src.ReadByte()
	if err != nil {
		return 0, cutOff(err)
	}
	s.sum.Write([]byte{c})
	s.read++
	return c, nil
}

// integer reads a number of up to 63 bits in its shortest form (1.2).
func (s *summed) integer() (int64, error) {
	value := uint64(0)
	for shift := 0; shift < 63; shift += 7 {
		c, err := s.ReadByte()
		if err != nil {
			return 0, err
		}
		value |= uint64(c&0x7f) << shift
		if c&0x80 == 0 {
			if c == 0 && shift > 0 || value > math.MaxInt64 {
				break
			}
			return int64(value), nil
		}
	}
	return 0, errors.New("a number in it is not in its shortest form")
}

// end reads zeros up to a multiple of four bytes and the checksum after them.
func (s *summed) end() error {
	for s.read%4 != 0 {
		if c, err := s.ReadByte(); err != nil || c != 0 {
			return errors.Join(err, errXZPadding)
		}
	}
	sum := s.sum.Sum32()
	var b [4]byte
	for i := range b {
		c, err := s.ReadByte()
		if err != nil {
			return err
		}
		b[i] = c
	}
	if binary.LittleEndian.Uint32(b[:]) != sum {
		return errors.New("an index contradicts its checksum")
	}
	return nil
}

var errXZPadding = errors.New("what fills up to four bytes is not zero")

// readXZIndex reads an index (4) after its first byte, which is zero, and returns
// its length with that.
func readXZIndex(src io.ByteReader, record func(xzRecord) error) (length int64, err error) {
	in := newSummed(src)
	in.sum.Write([]byte{0})
	in.read = 1
	count, err := in.integer()
	if err != nil {
		return 0, err
	}
	for range count {
		var r xzRecord
		if r.unpadded, err = in.integer(); err == nil {
			r.size, err = in.integer()
		}
		if err == nil && (r.unpadded < 5 || r.unpadded > math.MaxInt64-3) {
			err = errors.New("an index has a block of an impossible size")
		}
		if err == nil {
			err = record(r)
		}
		if err != nil {
			return 0, err
		}
	}
	err = in.end()
	return in.read, err
}

// xzBlockHeader is what the header of a block (3.1) says. Sizes that it does not
// tell are -1.
type xzBlockHeader struct {
	length       int64 // its own
	packed, size int64
	dictionary   byte       // as the filter's property (5.3.1) has it
	filters      []xzFilter // before LZMA2, in the order of packing
}

const (
	xzFilters    = 3 // number of them, less one
	xzHasPacked  = 0x40
	xzHasSize    = 0x80
	xzReserved   = 0x3c
	filterLZMA2  = 0x21
	longestBlock = 4 * 256 // of its header
)

func (h *xzBlockHeader) encode() []byte {
	b := []byte{0, xzHasPacked | xzHasSize}
	b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(h.packed)), uint64(h.size))
	b = append(b, filterLZMA2, 1, h.dictionary)
	b = append(b, make([]byte, -len(b)&3)...)
	b[0] = byte(len(b) / 4)
	return binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
}

// readXZBlockHeader reads the header of a block, whose first byte is not zero.
func readXZBlockHeader(src Source) (h xzBlockHeader, err error) {
	first, err := src.Peek(1)
	if err != nil {
		return h, cutOff(err)
	}
	if first[0] == 0 {
		return h, errXZHeader
	}
	raw := make([]byte, (int(first[0])+1)*4)
	if _, err := io.ReadFull(src, raw); err != nil {
		return h, cutOff(err)
	}
	body := raw[:len(raw)-4]
	if crc32.ChecksumIEEE(body) != binary.LittleEndian.Uint32(raw[len(body):]) {
		return h, errors.New("the header of a block contradicts its checksum")
	}
	return parseXZBlockHeader(body)
}

// parseXZBlockHeader reads what stands in front of the checksum.
func parseXZBlockHeader(body []byte) (h xzBlockHeader, err error) {
	h = xzBlockHeader{length: int64(len(body)) + 4, packed: -1, size: -1}
	flags := body[1]
	if flags&xzReserved != 0 {
		return h, errors.New("the header of a block has flags that there are not")
	}
	var rest Bytes
	rest.Reset(body[2:])
	in := newSummed(&rest)
	integer := func() int64 {
		value, failed := in.integer()
		err = errors.Join(err, failed)
		return value
	}
	if flags&xzHasPacked != 0 {
		h.packed = integer()
	}
	if flags&xzHasSize != 0 {
		h.size = integer()
	}
	if err != nil || h.packed == 0 {
		return h, errXZHeader
	}
	for range flags & xzFilters {
		f := xzFilter{id: integer()}
		length := integer()
		if err != nil || length < 0 || length > int64(len(rest.rest)) {
			return h, errXZHeader
		}
		f.props = bytes.Clone(rest.rest[:length])
		rest.Reset(rest.rest[length:])
		h.filters = append(h.filters, f)
	}
	if id := integer(); err == nil && id != filterLZMA2 {
		return h, errXZFilter
	}
	length := integer()
	if err == nil {
		h.dictionary, err = in.ReadByte()
	}
	if err != nil || length != 1 {
		return h, errXZHeader
	}
	if len(bytes.Trim(rest.rest, "\x00")) > 0 {
		return h, errXZPadding
	}
	return h, nil
}

// errXZFilter is the error of a filter that there is not, or not in its place.
var errXZFilter = fault.New(fault.Damaged, "it was packed with a filter that is not read")

var errXZHeader = errors.New("the header of a block makes no sense")

// memory is the size of the dictionary that is asked for.
func (h *xzBlockHeader) memory() (int64, error) {
	const most = 40
	switch {
	case h.dictionary > most:
		return 0, errXZHeader
	case h.dictionary == most:
		return math.MaxUint32, nil
	}
	return int64(2|h.dictionary&1) << (h.dictionary/2 + 11), nil
}

// unfilter is what reads the data of a block out of its chunks.
func (h *xzBlockHeader) unfilter(chunks io.Reader) (io.Reader, error) {
	data := chunks
	for _, f := range slices.Backward(h.filters) {
		if data = f.undo(data); data == nil {
			return nil, errXZFilter
		}
	}
	return data, nil
}
