package codec

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"

	"github.com/pierrec/lz4/v4"
)

// What frames start with: those of the format, and of the one before that.
var (
	lz4Frame   = []byte{0x04, 0x22, 0x4d, 0x18}
	lz4Earlier = []byte{0x02, 0x21, 0x4c, 0x18}
)

func isLZ4(head []byte) bool {
	return bytes.HasPrefix(head, lz4Frame) || bytes.HasPrefix(head, lz4Earlier)
}

// LZ4 is the name of the frame format.
const LZ4 = "lz4"

var lz4Method = Method{
	Name:       LZ4,
	Extensions: []string{".lz4"},
	Summed: func(head []byte) bool { // the flags of a frame
		rest, _ := skipFrames(head)
		return bytes.HasPrefix(rest, lz4Frame) && len(rest) > 4 && rest[4]&4 != 0
	},
	Magic: func(head []byte) bool {
		rest, _ := skipFrames(head)
		return isLZ4(rest)
	},
	Decode: func(src Source, _ Options) (io.ReadCloser, error) {
		if head, _ := src.Peek(len(lz4Earlier)); bytes.Equal(head, lz4Earlier) { // else the first read says what is wrong
			return io.NopCloser(io.MultiReader(&earlierLZ4{src: src}, lz4.NewReader(src))), nil
		}
		return io.NopCloser(lz4.NewReader(src)), nil
	},
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

// earlierLZ4 reads frames of the format before (LZ4 Frame Format, "Legacy frame"), up to one of
// another: blocks of up to 8 MiB behind their packed sizes, which nothing ends but what comes next.
type earlierLZ4 struct {
	src    Source
	packed []byte
	block  []byte
	rest   []byte // of the block, what was not read
}

const (
	lz4Block  = 8 << 20
	lz4Packed = lz4Block + lz4Block/255 + 16 // the most that a block can need
)

func (e *earlierLZ4) Read(p []byte) (int, error) {
	for len(e.rest) == 0 {
		if err := e.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

func (e *earlierLZ4) next() error {
	head, err := e.src.Peek(4)
	switch {
	case len(head) == 0:
		return err
	case len(head) < 4:
		return cutOff(err)
	}
	if _, skip := skipFrames(append(bytes.Clone(head), 0, 0, 0, 0)); skip || bytes.Equal(head, lz4Frame) {
		return io.EOF
	}
	size := binary.LittleEndian.Uint32(head)
	earlier := bytes.Equal(head, lz4Earlier)
	if _, err := e.src.Discard(4); err != nil || earlier {
		return err
	}
	if size > lz4Packed {
		return errors.New("a block is larger than there are")
	}
	if e.block == nil {
		e.block = make([]byte, lz4Block)
	}
	e.packed = slices.Grow(e.packed[:0], int(size))[:size]
	if _, err := io.ReadFull(e.src, e.packed); err != nil {
		return cutOff(err)
	}
	n, err := lz4.UncompressBlock(e.packed, e.block)
	e.rest = e.block[:max(0, n)]
	return err
}
