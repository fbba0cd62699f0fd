package codec

import (
	"encoding/binary"
	"io"
	"math"

	"widecrate/core/codec/lzma"

	"widecrate/core/fault"
)

// LZMA is the name of the bare method that ZIP uses.
const LZMA = "lzma"

// lzmaMethod reads what ZIP keeps (5.8.8): a version, the length of the
// properties, the properties, and the stream, with an end mark or, by a flag of the
// entry (4.4.4), without one.
var lzmaMethod = Method{
	Name: LZMA,
	Decode: func(src Source, o Options) (io.ReadCloser, error) {
		var head [4 + 5]byte
		if _, err := io.ReadFull(src, head[:]); err != nil {
			return nil, err
		}
		if binary.LittleEndian.Uint16(head[2:]) != 5 {
			return nil, fault.New(fault.Damaged, "its LZMA properties have the wrong length")
		}
		size := int64(-1)
		if o.NoEnd {
			size = o.Size
		}
		return decodeLZMA(src, o, head[4], binary.LittleEndian.Uint32(head[5:]), size)
	},
}

// decodeLZMA reads a stream behind its properties; a size of -1 is not known.
func decodeLZMA(src Source, o Options, properties byte, dictionary uint32, size int64) (io.ReadCloser, error) {
	p, err := lzma.ParseProperties(properties)
	if err != nil {
		return nil, err
	}
	if err := o.check(int64(dictionary)); err != nil {
		return nil, err
	}
	r, err := lzma.NewReader(src, p, int64(dictionary), size)
	return io.NopCloser(r), err
}

// LZMAFile is the name of the method of files of their own, whose format is called lzma.
const LZMAFile = "lzma-file"

// lzmaFile reads files with the header of 13 bytes that older packers wrote: properties, the
// size of the dictionary, and that of the data, or all ones where an end mark shows it.
var lzmaFile = Method{
	Name:       LZMAFile,
	Format:     LZMA,
	Extensions: []string{".lzma"},
	Magic: func(head []byte) bool {
		// No number says it, so only what packers write is taken: usual properties, and a
		// dictionary that is a power of two, or one and a half times one.
		if len(head) < lzmaHeader || head[0] != 0x5d {
			return false
		}
		dictionary, size := binary.LittleEndian.Uint32(head[1:]), binary.LittleEndian.Uint64(head[5:])
		if dictionary%3 == 0 {
			dictionary = dictionary / 3 * 2
		}
		return dictionary >= 1<<12 && dictionary&(dictionary-1) == 0 && (size == math.MaxUint64 || size < 1<<38)
	},
	Decode: func(src Source, o Options) (io.ReadCloser, error) {
		var head [lzmaHeader]byte
		if _, err := io.ReadFull(src, head[:]); err != nil {
			return nil, cutOff(err)
		}
		size := int64(binary.LittleEndian.Uint64(head[5:])) // all ones are -1
		if size < -1 {
			return nil, fault.New(fault.Damaged, "its LZMA header has an impossible size")
		}
		data, err := decodeLZMA(src, o, head[0], binary.LittleEndian.Uint32(head[1:]), size)
		return io.NopCloser(&alone{data, src}), err
	},
}

// alone reads a stream that has nothing behind it.
type alone struct {
	io.Reader
	src Source
}

func (a *alone) Read(p []byte) (int, error) {
	n, err := a.Reader.Read(p)
	if err == io.EOF {
		if _, more := a.src.Peek(1); more == nil {
			err = errBehind
		}
	}
	return n, err
}

const lzmaHeader = 13
