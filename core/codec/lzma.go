package codec

import (
	"bytes"
	"encoding/binary"
	"io"

	"github.com/ulikunitz/xz/lzma"

	"widecrate/core/fault"
)

// LZMA is the name of the bare method that ZIP uses.
const LZMA = "lzma"

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
