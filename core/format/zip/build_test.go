package zip

import (
	"bytes"
	"compress/flate"
	"hash/crc32"
	"io"

	"github.com/ulikunitz/xz/lzma"

	"widecrate/core/codec"
	"widecrate/core/codec/codectest"
)

// built is an archive written field by field, so that each can be wrong.
type built struct {
	front    string // bytes in front of the archive
	entries  []fake
	gap      string // between the directory and the records at its end
	zip64    bool   // with the ZIP64 records at the end
	sector   string // extensible data of the ZIP64 record
	comment  string
	trailing string
	end      func(record []byte) // changes the end record
}

// fake is an entry. The zero values make a plain stored file from DOS.
type fake struct {
	name                     string
	data                     string
	method                   uint16
	flags                    uint16
	madeBy                   uint16
	attributes               uint32
	clock, date              uint16
	localExtra, centralExtra string
	descriptor               string // "", "signed", "unsigned" or "wide"
	local, central           func(header []byte)
	packed                   func(data []byte) []byte
	raw                      []byte // packed already
}

func (b built) bytes() []byte {
	out := []byte(b.front)
	base := len(out)
	var directory []byte
	for _, f := range b.entries {
		offset := len(out) - base
		out = append(out, f.localPart()...)
		directory = append(directory, f.centralPart(uint32(offset))...)
	}
	start := len(out) - base
	out = append(append(out, directory...), b.gap...)
	if b.zip64 {
		at := len(out) - base
		out = append(out, numbers(uint32(end64Signature), uint64(44+len(b.sector)), uint16(45), uint16(45), uint32(0), uint32(0),
			uint64(len(b.entries)), uint64(len(b.entries)), uint64(len(directory)), uint64(start))...)
		out = append(out, b.sector...)
		out = append(out, numbers(uint32(locatorSignature), uint32(0), uint64(at), uint32(1))...)
	}
	count, length, offset := uint16(len(b.entries)), uint32(len(directory)), uint32(start)
	if b.zip64 {
		count, length, offset = max16, max32, max32
	}
	record := numbers(uint32(endSignature), uint16(0), uint16(0), count, count, length, offset, uint16(len(b.comment)))
	if b.end != nil {
		b.end(record)
	}
	return append(append(append(out, record...), b.comment...), b.trailing...)
}

func (f fake) localPart() []byte {
	packed, flags := f.pack(), f.flags
	crc, packedSize, size := f.sums(packed)
	if f.descriptor != "" {
		flags |= flagDescriptor
	}
	if f.descriptor != "" && f.descriptor != "none" {
		crc, packedSize, size = 0, 0, 0
	}
	h := numbers(uint32(localSignature), uint16(20), flags, f.method, f.clock, f.date, crc, packedSize, size,
		uint16(len(f.name)), uint16(len(f.localExtra)))
	h = append(append(h, f.name...), f.localExtra...)
	if f.local != nil {
		f.local(h)
	}
	h = append(h, packed...)
	crc, packedSize, size = f.sums(packed)
	switch f.descriptor {
	case "signed":
		h = append(h, numbers(uint32(descriptorSignature), crc, packedSize, size)...)
	case "unsigned":
		h = append(h, numbers(crc, packedSize, size)...)
	case "wide":
		h = append(h, numbers(uint32(descriptorSignature), crc, uint64(packedSize), uint64(size))...)
	}
	return h
}

func (f fake) centralPart(offset uint32) []byte {
	crc, packed, size := f.sums(f.pack())
	flags := f.flags
	if f.descriptor != "" {
		flags |= flagDescriptor
	}
	h := numbers(uint32(centralSignature), f.madeBy, uint16(20), flags, f.method, f.clock, f.date, crc, packed, size,
		uint16(len(f.name)), uint16(len(f.centralExtra)), uint16(0), uint16(0), uint16(0), f.attributes, offset)
	h = append(append(h, f.name...), f.centralExtra...)
	if f.central != nil {
		f.central(h)
	}
	return h
}

func (f fake) pack() []byte {
	if f.raw != nil {
		return f.raw
	}
	var b bytes.Buffer
	switch f.method {
	case 1:
		b.Write(codectest.Shrink([]byte(f.data)))
	case 2, 3, 4, 5:
		b.Write(codectest.Reduce([]byte(f.data), int(f.method)-1))
	case 6:
		b.Write(codectest.Implode([]byte(f.data), f.flags&flagLarge != 0, f.flags&flagLiterals != 0))
	case 9: // without matches, it is deflate
		w, err := flate.NewWriter(&b, flate.HuffmanOnly)
		if err != nil {
			panic(err)
		}
		io.WriteString(w, f.data)
		w.Close()
	case 14:
		lzmaFor(&b, f.data, f.flags&flagLZMAEnd != 0)
	default:
		f.packInto(&b, methodName(f.method))
	}
	if f.packed != nil {
		return f.packed(b.Bytes())
	}
	return b.Bytes()
}

func (f fake) sums(packed []byte) (crc, packedSize, size uint32) {
	return crc32.ChecksumIEEE([]byte(f.data)), uint32(len(packed)), uint32(len(f.data))
}

// numbers encodes fields in little-endian order.
func numbers(values ...any) []byte {
	var b []byte
	for _, v := range values {
		switch v := v.(type) {
		case uint16:
			b = le.AppendUint16(b, v)
		case uint32:
			b = le.AppendUint32(b, v)
		case uint64:
			b = le.AppendUint64(b, v)
		}
	}
	return b
}

// field encodes an extra field.
func field(id uint16, data []byte) string {
	return string(append(numbers(id, uint16(len(data))), data...))
}

// set returns a change of the bytes at an offset.
func set(at int, value ...byte) func([]byte) {
	return func(b []byte) { copy(b[at:], value) }
}

// packInto packs with a method; one that there is not stores.
func (f fake) packInto(b *bytes.Buffer, method string) {
	m, ok := codec.ByName(method)
	if !ok || m.Encode == nil {
		m, _ = codec.ByName(codec.Store)
	}
	if err := pack(b, m, codec.EncodeOptions{}, bytes.NewReader([]byte(f.data))); err != nil {
		panic(err)
	}
}

// lzmaFor writes what ZIP keeps of LZMA (5.8.8): a version, the length of the
// properties, these, and the stream with an end mark.
func lzmaFor(b *bytes.Buffer, data string, marked bool) {
	var whole bytes.Buffer
	w, err := lzma.WriterConfig{EOSMarker: marked, SizeInHeader: !marked, Size: int64(len(data))}.NewWriter(&whole)
	if err != nil {
		panic(err)
	}
	io.WriteString(w, data)
	w.Close()
	b.Write(numbers(uint16(0x0909), uint16(5)))
	b.Write(whole.Bytes()[:5])
	b.Write(whole.Bytes()[lzma.HeaderLen:])
}
