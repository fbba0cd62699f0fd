package codec

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"io"
	"runtime"

	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"

	"widecrate/core/fault"
)

// The names of the two methods of one family: the container of several
// streams and checks, and the bare one that ZIP uses.
const (
	XZ   = "xz"
	LZMA = "lzma"
)

var xzMagic = []byte{0xfd, '7', 'z', 'X', 'Z', 0}

var xzMethod = Method{
	Name:       XZ,
	Extensions: []string{".xz"},
	Magic:      func(head []byte) bool { return bytes.HasPrefix(head, xzMagic) },
	Decode: func(src Source, o Options) (io.ReadCloser, error) {
		in := bufio.NewReaderSize(src, 64<<10)
		head, _ := in.Peek(12 + 1024) // stream header and the longest block header
		if err := o.check(xzDictionary(head)); err != nil {
			return nil, err
		}
		r, err := xz.NewReader(in)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(r), nil
	},
	DecodeFile: func(r io.ReaderAt, size int64, o Options) (io.ReadCloser, error) {
		return decodeStreams(r, size, o, runtime.GOMAXPROCS(0))
	},
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		// A stream of its own for each block; only what lies in it can be
		// referred to, so that a larger dictionary would be of no use.
		size := xzBlock(o.level())
		return newBlocks(dst, size, 0, o, func(block, _ []byte, _ bool) ([]byte, error) {
			return encodeWhole(block, func(out io.Writer) (io.WriteCloser, error) {
				return xz.WriterConfig{DictCap: size}.NewWriter(out)
			})
		}), nil
	},
}

// xzBlock is larger with the level. An encoder takes about ten times as much
// memory.
func xzBlock(level Level) int {
	switch {
	case level <= 2:
		return 1 << 20
	case level <= Normal:
		return 4 << 20
	}
	return 5 << 20
}

// xzDictionary reads what memory the first block asks for (The .xz File Format,
// sections 3.1 and 5.3.1); 0 if there is no block.
func xzDictionary(head []byte) int64 {
	const streamHeader, lzma2 = 12, 0x21
	if len(head) < streamHeader+2 || head[streamHeader] == 0 {
		return 0
	}
	block := head[streamHeader:]
	flags, at := block[1], 2
	for _, present := range []byte{0x40, 0x80} { // sizes in front of the filters
		if flags&present != 0 {
			_, n := binary.Uvarint(block[at:])
			at += max(n, 0)
		}
	}
	for range flags&3 + 1 {
		if at+2 >= len(block) {
			return 0
		}
		id, length := block[at], int(block[at+1])
		if id == lzma2 && length == 1 {
			size, err := lzma.DecodeDictCap(block[at+2])
			if err != nil {
				return 0 // the decoder says it better
			}
			return size
		}
		at += 2 + length
	}
	return 0
}

// lzmaMethod reads what ZIP keeps (5.8.8): a version, the length of the
// properties, the properties, and the stream without the header that the
// library expects.
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
		dictionary := binary.LittleEndian.Uint32(head[5:])
		if err := o.check(int64(dictionary)); err != nil {
			return nil, err
		}
		binary.LittleEndian.PutUint32(head[5:], max(dictionary, lzma.MinDictCap))
		unknown := bytes.Repeat([]byte{0xff}, 8) // the size: an end mark tells
		r, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head[4:]), bytes.NewReader(unknown), src))
		if err != nil {
			return nil, err
		}
		return io.NopCloser(r), nil
	},
}
