package codec

import (
	"bytes"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

// XZ is the name of the method: LZMA2 in a container of streams, blocks and
// checks (The .xz File Format).
const XZ = "xz"

var xzMagic = []byte{0xfd, '7', 'z', 'X', 'Z', 0}

var xzMethod = Method{
	Name:       XZ,
	Extensions: []string{".xz"},
	Magic:      func(head []byte) bool { return bytes.HasPrefix(head, xzMagic) },
	Summed:     func(head []byte) bool { return len(head) > 7 && head[7] != 0 }, // 2.1.1.2
	Decode: func(src Source, o Options) (io.ReadCloser, error) {
		r := &xzReader{src: src, o: o}
		if err := r.begin(); err != nil {
			return nil, cutOff(err)
		}
		return io.NopCloser(r), nil
	},
	DecodeFile: func(r io.ReaderAt, size int64, o Options) (io.ReadCloser, error) {
		return decodeBlocks(r, size, o, xzAhead())
	},
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		// Only what lies in a block can be referred to, so that a larger
		// dictionary would be of no use.
		size := xzBlockSize(o.level())
		w := &xzWriter{dst: dst}
		w.blocks = newBlocks(blockWriter(w.block), &blockKind{size: size}, o, func(out, block []byte, _ int, _ bool) ([]byte, error) {
			return encodeXZBlock(out, block, size)
		})
		return w, nil
	},
}

// xzBlockSize is larger with the level. An encoder takes about ten times as much
// memory.
func xzBlockSize(level Level) int {
	switch {
	case level <= 2:
		return 1 << 20
	case level <= Normal:
		return 4 << 20
	}
	return 5 << 20
}

// blockWriter is a function that gets each block of a stream in one call.
type blockWriter func(block []byte) error

func (w blockWriter) Write(block []byte) (int, error) {
	if err := w(block); err != nil {
		return 0, err
	}
	return len(block), nil
}

// xzWriter writes one stream: its index, at the end, says how many blocks belong
// to it, so that a file that is cut off is never a whole one.
type xzWriter struct {
	*blocks
	dst     io.Writer
	began   bool
	records []xzRecord
}

// block writes the next block, whose sizes its header says.
func (w *xzWriter) block(packed []byte) error {
	if err := w.begin(); err != nil || len(packed) == 0 {
		return err
	}
	var src Bytes
	src.Reset(packed)
	h, err := readXZBlockHeader(&src)
	if err != nil {
		return err
	}
	w.records = append(w.records, xzRecord{h.length + h.packed + xzChecks[xzCRC64].size, h.size})
	_, err = w.dst.Write(packed)
	return err
}

func (w *xzWriter) begin() error {
	if w.began {
		return nil
	}
	w.began = true
	_, err := w.dst.Write(xzStreamHeader(xzCRC64))
	return err
}

// Close writes what is left, the index and the footer.
func (w *xzWriter) Close() error {
	if w.closed {
		return w.err
	}
	if err := w.blocks.Close(); err != nil {
		return err
	}
	if w.err = w.begin(); w.err == nil {
		_, w.err = w.dst.Write(xzStreamEnd(w.records, xzCRC64))
	}
	return w.err
}

// encodeXZBlock makes a block with both sizes in its header, padded, and with a
// CRC-64; nothing of nothing. The dictionary, in bytes, is an upper bound.
func encodeXZBlock(out, block []byte, dictionary int) ([]byte, error) {
	if len(block) == 0 {
		return out, nil
	}
	dictionary = max(min(dictionary, len(block)), lzma.MinDictCap) // no more than it can look back
	packed, err := encodeWhole(block, func(out io.Writer) (io.WriteCloser, error) {
		return lzma.Writer2Config{DictCap: dictionary}.NewWriter2(out)
	})
	if err != nil {
		return nil, err
	}
	h := xzBlockHeader{packed: int64(len(packed)), size: int64(len(block)), dictionary: lzma.EncodeDictCap(int64(dictionary))}
	sum := xzChecks[xzCRC64].new()
	sum.Write(block)
	from := len(out)
	out = append(append(out, h.encode()...), packed...)
	out = append(out, make([]byte, -(len(out)-from)&3)...)
	return sum.Sum(out), nil
}
