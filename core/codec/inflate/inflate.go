// Package inflate decodes deflate streams (RFC 1951), and those of its wider
// variant, deflate64: a window of 64 KiB, lengths of up to 65,538 and two more
// distance codes. It takes no byte too many from its source. Where that can be
// looked ahead in, a fast loop decodes nearly all symbols; a slow one, by the
// bit, has the rest: ends, long codes, and whatever is wrong.
package inflate

import (
	"errors"
	"fmt"
	"io"
)

// errCorrupt is the start of every error about the data.
var errCorrupt = errors.New("the compressed data is corrupt")

func corrupt(what string) error { return fmt.Errorf("%w: %s", errCorrupt, what) }

// A Peeker is a source of which what is at hand can be looked at, such as a
// bufio.Reader. From one, decoding is several times as fast.
type Peeker interface {
	io.ByteReader
	Buffered() int
	Peek(n int) ([]byte, error)
	Discard(n int) (int, error)
}

// Decoder reads one stream.
type Decoder struct {
	src  io.ByteReader
	peek Peeker // src, if it is one
	wide bool

	bits  uint64 // not used yet, the next one lowest
	count uint   // of them

	// What was decoded: all of it that a distance can reach, from the start of
	// the buffer, and what was not handed out yet.
	buffer      []byte
	read, write int // positions: of the next byte to hand out, and to fill in
	reach       int // of a distance

	phase            func(*Decoder) error
	last             bool
	stored           int // bytes left of a stored block
	length, distance int // left of a match
	literals, dists  table
	fastLiterals     [1 << literalBits]uint32
	fastDistances    [1 << distanceBits]uint32
	err              error
}

// room is how much is decoded before it is handed out.
const room = 96 << 10

// New returns a decoder of deflate, or with wide of deflate64.
func New(src io.ByteReader, wide bool) *Decoder {
	d := &Decoder{wide: wide, reach: 32 << 10}
	if wide {
		d.reach = 64 << 10
	}
	d.buffer = make([]byte, d.reach+room)
	d.Reset(src)
	return d
}

// Reset makes the decoder ready for another stream of the same kind.
func (d *Decoder) Reset(src io.ByteReader) {
	d.src = src
	d.peek, _ = src.(Peeker)
	d.bits, d.count, d.read, d.write = 0, 0, 0, 0
	d.phase, d.last, d.stored, d.length, d.err = (*Decoder).block, false, 0, 0, nil
}

// Read reads decoded bytes. It returns io.EOF at the end of the last block, and
// io.ErrUnexpectedEOF when the source ends before.
func (d *Decoder) Read(p []byte) (int, error) {
	if d.read == d.write && d.err == nil {
		if d.full() { // what distances can reach moves to the front
			copy(d.buffer, d.buffer[d.write-d.reach:d.write])
			d.read, d.write = d.reach, d.reach
		}
		for d.err == nil && !d.full() {
			d.err = d.phase(d)
		}
	}
	n := copy(p, d.buffer[d.read:d.write])
	d.read += n
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, d.err
}

func (d *Decoder) full() bool { return d.write == len(d.buffer) }

func (d *Decoder) put(c byte) {
	d.buffer[d.write] = c
	d.write++
}

// more takes one byte into the bit buffer.
func (d *Decoder) more() error {
	c, err := d.src.ReadByte()
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	d.bits |= uint64(c) << d.count
	d.count += 8
	return err
}

func (d *Decoder) take(n uint) (int, error) {
	for d.count < n {
		if err := d.more(); err != nil {
			return 0, err
		}
	}
	v := d.bits & (1<<n - 1)
	d.bits >>= n
	d.count -= n
	return int(v), nil
}

// block reads the header of a block (3.2.3).
func (d *Decoder) block() error {
	if d.last {
		return io.EOF
	}
	header, err := d.take(3)
	if err != nil {
		return err
	}
	d.last = header&1 != 0
	switch header >> 1 {
	case 0:
		return d.storedHeader()
	case 1:
		d.literals, d.dists = fixedLiterals, fixedDistances
		d.fillFast(fixedLengths[:288], fixedLengths[288:])
		d.phase = (*Decoder).compressed
		return nil
	case 2:
		d.phase = (*Decoder).compressed
		return d.dynamicHeader()
	}
	return corrupt("a block of no known type")
}

// storedHeader reads the lengths of a stored block (3.2.4), which start at a
// whole byte.
func (d *Decoder) storedHeader() error {
	d.bits, d.count = 0, 0
	length, err := d.take(16)
	if err != nil {
		return err
	}
	complement, err := d.take(16)
	if err != nil {
		return err
	}
	if length != ^complement&0xffff {
		return corrupt("a stored block contradicts its own length")
	}
	d.stored, d.phase = length, (*Decoder).storedData
	return nil
}

func (d *Decoder) storedData() error {
	if d.peek != nil && d.stored > 0 {
		in, err := d.peek.Peek(max(1, min(d.stored, d.peek.Buffered())))
		if err == io.EOF {
			return io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		n := copy(d.buffer[d.write:], in[:min(len(in), d.stored)])
		d.write += n
		d.stored -= n
		_, err = d.peek.Discard(n)
		if d.stored == 0 {
			d.phase = (*Decoder).block
		}
		return err
	}
	for d.stored > 0 && !d.full() {
		c, err := d.src.ReadByte()
		if err == io.EOF {
			return io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		d.put(c)
		d.stored--
	}
	if d.stored == 0 {
		d.phase = (*Decoder).block
	}
	return nil
}

// lengthOrder is that of 3.2.7.
var lengthOrder = [19]int{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// dynamicHeader reads the codes of a block (3.2.7).
func (d *Decoder) dynamicHeader() error {
	counts, err := d.take(14)
	if err != nil {
		return err
	}
	literals, distances, orders := counts&31+257, counts>>5&31+1, counts>>10+4
	if literals > maxLiterals || !d.wide && distances > 30 {
		return corrupt("a block with too many codes")
	}
	var lengths [maxLiterals + 32]byte
	for i := range orders {
		n, err := d.take(3)
		if err != nil {
			return err
		}
		lengths[lengthOrder[i]] = byte(n)
	}
	var codes table
	if err := codes.build(lengths[:19]); err != nil {
		return err
	}
	clear(lengths[:19])
	for i := 0; i < literals+distances; {
		symbol, err := d.symbol(&codes)
		if err != nil {
			return err
		}
		if symbol < 16 {
			lengths[i] = byte(symbol)
			i++
			continue
		}
		repeat, value := [3]struct {
			bits uint
			base int
		}{{2, 3}, {3, 3}, {7, 11}}[symbol-16], byte(0)
		if symbol == 16 {
			if i == 0 {
				return corrupt("a code length repeats nothing")
			}
			value = lengths[i-1]
		}
		n, err := d.take(repeat.bits)
		if err != nil {
			return err
		}
		if n += repeat.base; i+n > literals+distances {
			return corrupt("too many code lengths")
		}
		for range n {
			lengths[i] = value
			i++
		}
	}
	if lengths[endOfBlock] == 0 {
		return corrupt("a block without an end")
	}
	if err := d.literals.build(lengths[:literals]); err != nil {
		return err
	}
	if err := d.dists.build(lengths[literals : literals+distances]); err != nil {
		return err
	}
	d.fillFast(lengths[:literals], lengths[literals:literals+distances])
	return nil
}

// fillFast makes the tables of the fast loop.
func (d *Decoder) fillFast(literals, distances []byte) {
	if d.peek != nil {
		fill(d.fastLiterals[:], literalBits, literals, d.literalEntry)
		fill(d.fastDistances[:], distanceBits, distances, d.distanceEntry)
	}
}

const (
	endOfBlock  = 256
	maxLiterals = 286
)

// extra is the base and the number of extra bits of a length or distance code.
type extra struct {
	base int
	bits uint
}

// The codes of 3.2.5; deflate64 has another last length, and two more distances.
var lengthCodes, wideLengthCodes, distanceCodes = func() (l, w [29]extra, dist [32]extra) {
	base := 3
	for i := range l {
		bits := max(i/4-1, 0)
		l[i] = extra{base, uint(bits)}
		base += 1 << bits
	}
	w = l
	l[28], w[28] = extra{258, 0}, extra{3, 16}
	base = 1
	for i := range dist {
		bits := max(i/2-1, 0)
		dist[i] = extra{base, uint(bits)}
		base += 1 << bits
	}
	return l, w, dist
}()

// compressed decodes symbols until the window is full or the block ends.
func (d *Decoder) compressed() error {
	for !d.full() {
		if d.length > 0 {
			d.match()
			continue
		}
		if d.peek != nil && d.write+outputRoom <= len(d.buffer) {
			d.fast()
		}
		symbol, err := d.symbol(&d.literals)
		switch {
		case err != nil:
			return err
		case symbol < endOfBlock:
			d.put(byte(symbol))
		case symbol == endOfBlock:
			d.phase = (*Decoder).block
			return nil
		default:
			if err := d.startMatch(symbol - endOfBlock - 1); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *Decoder) startMatch(code int) error {
	codes := &lengthCodes
	if d.wide {
		codes = &wideLengthCodes
	}
	if code >= len(codes) {
		return corrupt("a length code that there is not")
	}
	more, err := d.take(codes[code].bits)
	if err != nil {
		return err
	}
	symbol, err := d.symbol(&d.dists)
	if err != nil {
		return err
	}
	if symbol >= 30 && !d.wide {
		return corrupt("a distance code that there is not")
	}
	far, err := d.take(distanceCodes[symbol].bits)
	if err != nil {
		return err
	}
	d.length, d.distance = codes[code].base+more, distanceCodes[symbol].base+far
	if d.distance > d.write || d.distance > d.reach {
		d.length = 0
		return corrupt("a distance to before the start")
	}
	return nil
}

// match copies as much of a match as there is room for.
func (d *Decoder) match() {
	n := min(d.length, len(d.buffer)-d.write)
	d.length -= n
	for range n {
		d.put(d.buffer[d.write-d.distance])
	}
}
