package codec

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/dsnet/compress/bzip2"

	bunzip "widecrate/core/codec/bzip2"
)

// Bzip2 is the name of the method; a stream may be several, one after the other.
const Bzip2 = "bzip2"

// A stream is a header, blocks that start with a magic number at any bit, and an
// end with another and the sums of all blocks put together.
const (
	bzip2BlockMagic = 0x314159265359
	bzip2EndMagic   = 0x177245385090
)

var bzip2Method = Method{
	Name:       Bzip2,
	Extensions: []string{".bz2"},
	Summed:     always,
	Magic: func(head []byte) bool {
		if len(head) < 10 || string(head[:3]) != "BZh" || head[3] < '1' || head[3] > '9' {
			return false
		}
		magic := binary.BigEndian.Uint64(head[2:]) & (1<<48 - 1)
		return magic == bzip2BlockMagic || magic == bzip2EndMagic
	},
	Decode:     func(src Source, _ Options) (io.ReadCloser, error) { return bunzip.NewReader(src), nil },
	ReadsAhead: true,
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		level := int(max(o.level(), Fast))
		w := &bzip2Writer{dst: dst, level: level}
		w.blocks = newBlocks(blockWriter(w.streams), &blockKind{size: level * bzip2Unit}, o, func(out, block []byte, _ int, _ bool) ([]byte, error) {
			return encodeBzip2(out, block, level)
		})
		return w, nil
	},
}

// bzip2Unit is the size of a block for each level.
const bzip2Unit = 100_000

// encodeBzip2 compresses a block, as one or two streams of one block each: after
// the size of each.
func encodeBzip2(out, block []byte, level int) ([]byte, error) {
	pieces := [][]byte{block}
	if runLength(block) > level*bzip2Unit { // more than fits into one
		pieces = [][]byte{block[:len(block)/2], block[len(block)/2:]}
	}
	for _, piece := range pieces {
		if len(piece) == 0 {
			continue
		}
		stream, err := encodeWhole(piece, func(out io.Writer) (io.WriteCloser, error) {
			return bzip2.NewWriter(out, &bzip2.WriterConfig{Level: level})
		})
		if err != nil {
			return nil, err
		}
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(stream))), stream...)
	}
	return out, nil
}

// runLength is the size of data after the first stage, which gives runs of four
// or more a byte for their length.
func runLength(data []byte) int {
	length, run := 0, 0
	for i, c := range data {
		if i > 0 && c != data[i-1] || run == 255 {
			run = 0
		}
		switch run++; {
		case run < 4:
			length++
		case run == 4:
			length += 2
		}
	}
	return length
}

// bzip2Writer puts the blocks of streams together into one: its end says that it
// was all, so that a file that is cut off is never a whole one.
type bzip2Writer struct {
	*blocks
	dst   io.Writer
	level int
	began bool
	out   []byte
	held  uint64 // bits that are not a byte yet, the lowest
	bits  uint   // how many
	sum   uint32 // of all blocks
}

// streams takes the blocks out of what encodeBzip2 made.
func (w *bzip2Writer) streams(data []byte) error {
	w.begin()
	for len(data) > 0 {
		size := binary.BigEndian.Uint32(data)
		stream := data[4 : 4+size]
		data = data[4+size:]
		end, sum, err := bzip2End(stream)
		if err != nil {
			return err
		}
		w.sum = (w.sum<<1 | w.sum>>31) ^ sum
		w.append(stream[4:], end-32)
	}
	return w.flush()
}

func (w *bzip2Writer) begin() {
	if !w.began {
		w.began = true
		w.out = append(w.out, 'B', 'Z', 'h', byte('0'+w.level))
	}
}

// append adds bits of data, the highest of each byte first.
func (w *bzip2Writer) append(data []byte, bits int) {
	for ; bits >= 8; bits -= 8 {
		w.add(uint64(data[0]), 8)
		data = data[1:]
	}
	if bits > 0 {
		w.add(uint64(data[0]>>(8-bits)), uint(bits))
	}
}

func (w *bzip2Writer) add(value uint64, bits uint) {
	w.held = w.held<<bits | value
	for w.bits += bits; w.bits >= 8; w.bits -= 8 {
		w.out = append(w.out, byte(w.held>>(w.bits-8)))
	}
}

func (w *bzip2Writer) flush() error {
	_, err := w.dst.Write(w.out)
	w.out = w.out[:0]
	return err
}

// Close writes what is left, and the end.
func (w *bzip2Writer) Close() error {
	if w.closed {
		return w.err
	}
	if err := w.blocks.Close(); err != nil {
		return err
	}
	w.begin()
	w.add(bzip2EndMagic, 48)
	w.add(uint64(w.sum), 32)
	w.add(0, -w.bits&7)
	w.err = w.flush()
	return w.err
}

// bzip2End finds where the blocks of a whole stream end, in bits from its start,
// and the sums of all of them.
func bzip2End(stream []byte) (end int, sum uint32, err error) {
	for padding := range 8 {
		at := len(stream)*8 - padding - 80
		if at >= 32 && bitsAt(stream, at, 48) == bzip2EndMagic {
			return at, uint32(bitsAt(stream, at+48, 32)), nil
		}
	}
	return 0, 0, errors.New("a bzip2 stream without an end")
}

// bitsAt returns up to 56 bits.
func bitsAt(b []byte, at, bits int) (value uint64) {
	for i := at / 8; i <= (at+bits-1)/8; i++ {
		value = value<<8 | uint64(b[i])
	}
	return value >> (7 - (at+bits-1)%8) & (1<<bits - 1)
}
