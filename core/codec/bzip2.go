package codec

import (
	stdbzip2 "compress/bzip2"
	"io"

	"github.com/dsnet/compress/bzip2"
)

// Bzip2 is the name of the method; a stream may be several, one after the other.
const Bzip2 = "bzip2"

var bzip2Method = Method{
	Name:       Bzip2,
	Extensions: []string{".bz2"},
	Magic: func(head []byte) bool {
		return len(head) >= 10 && string(head[:3]) == "BZh" && head[3] >= '1' && head[3] <= '9' &&
			(string(head[4:10]) == "1AY&SY" || string(head[4:10]) == "\x17\x72\x45\x38\x50\x90")
	},
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return io.NopCloser(stdbzip2.NewReader(src)), nil },
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		level := int(max(o.level(), Fast))
		// A stream of its own for each block.
		return newBlocks(dst, level*100_000, 0, o, func(block, _ []byte, _ bool) ([]byte, error) {
			return encodeWhole(block, func(out io.Writer) (io.WriteCloser, error) {
				return bzip2.NewWriter(out, &bzip2.WriterConfig{Level: level})
			})
		}), nil
	},
}
