package codec

import (
	"bytes"
	"io"

	"github.com/pierrec/lz4/v4"
)

// isLZ4 knows a frame, and one of the format before that.
func isLZ4(head []byte) bool {
	return bytes.HasPrefix(head, []byte{0x04, 0x22, 0x4d, 0x18}) || bytes.HasPrefix(head, []byte{0x02, 0x21, 0x4c, 0x18})
}

// LZ4 is the name of the frame format.
const LZ4 = "lz4"

var lz4Method = Method{
	Name:       LZ4,
	Extensions: []string{".lz4"},
	Magic: func(head []byte) bool {
		rest, _ := skipFrames(head)
		return isLZ4(rest)
	},
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return io.NopCloser(lz4.NewReader(src)), nil },
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		w := lz4.NewWriter(dst)
		level := lz4.Fast
		if o.level() > Normal { // those below differ by nothing
			level = lz4.CompressionLevel(1 << (8 + o.level()))
		}
		if err := w.Apply(lz4.ConcurrencyOption(o.workers()), lz4.CompressionLevelOption(level)); err != nil {
			return nil, err
		}
		// Nothing but writing: to be read from instead, as io.Copy would, it has
		// to be new.
		return struct{ io.WriteCloser }{w}, nil
	},
}
