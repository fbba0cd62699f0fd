// Package inflate decodes deflate streams (RFC 1951), and those of its wider
// variant, deflate64: a window of 64 KiB, lengths of up to 65,538 and two more
// distance codes. It takes no byte too many from its source. A fast loop decodes
// nearly all symbols; a careful one has the rest: what is near the end of the
// input that is at hand, ends, and whatever is wrong.
package inflate

import (
	"encoding/binary"
	"fmt"
	"io"

	"widecrate/core/codec/bits"
)

// A CorruptError says what is wrong with a stream, and where.
type CorruptError struct {
	Offset int64 // in the stream, in bytes: what makes no sense stands before it
	What   string
}

func (e *CorruptError) Error() string {
	return fmt.Sprintf("before offset %d it has %s", e.Offset, e.What)
}

// corrupt is an error whose place is not known yet.
func corrupt(what string) error { return &CorruptError{What: what} }

var (
	errNoDistance = corrupt("a distance code that there is not")
	errTooFar     = corrupt("a distance to before the start")
)

// Decoder reads one stream.
type Decoder struct {
	src   bits.Source
	codes *codes

	in    []byte // what is at hand of the source
	ip    int    // how much of it was taken
	bits  uint64 // taken and not used yet, the next one lowest
	count uint   // of them; above may stand some that were not taken yet

	// What was decoded: all of it that a distance can reach, from the start of
	// the buffer, and what was not handed out yet.
	buffer      []byte
	read, write int // positions: of the next byte to hand out, and to fill in

	taken            int64 // bytes that the source was rid of
	phase            func(*Decoder) error
	last             bool
	stored           int // bytes left of a stored block
	length, distance int // left of a match

	tables  *tables // of the block: own, or those of the fixed codes
	own     tables
	lengths [1 << lengthRoot]uint32 // of the code of the code lengths
	err     error
}

// room is how much is decoded before it is handed out.
const room = 96 << 10

// New returns a decoder of deflate, or with wide of deflate64.
func New(src bits.Source, wide bool) *Decoder {
	codes := deflate
	if wide {
		codes = deflate64
	}
	d := &Decoder{codes: codes()}
	d.buffer = make([]byte, d.codes.reach+room+outputRoom)
	d.Reset(src)
	return d
}

// Reset makes the decoder ready for another stream of the same kind.
func (d *Decoder) Reset(src bits.Source) {
	d.src = src
	d.in, d.ip, d.bits, d.count, d.read, d.write = nil, 0, 0, 0, 0, 0
	d.taken = 0
	d.phase, d.last, d.stored, d.length, d.err = (*Decoder).block, false, 0, 0, nil
}

// Preset makes the decoder refer back to what the packer had before the start; it is called
// before anything is read.
func (d *Decoder) Preset(dictionary []byte) {
	d.write = copy(d.buffer, dictionary[max(0, len(dictionary)-d.codes.reach):])
	d.read = d.write
}

// Read reads decoded bytes. It returns io.EOF at the end of the last block, and
// io.ErrUnexpectedEOF when the source ends before.
func (d *Decoder) Read(p []byte) (int, error) {
	if d.read == d.write && len(p) > 0 {
		d.decode()
	}
	n := copy(p, d.buffer[d.read:d.write])
	d.read += n
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, d.err
}

// WriteTo writes all that is left to w, from where it was decoded to.
func (d *Decoder) WriteTo(w io.Writer) (size int64, err error) {
	for err == nil {
		if d.read == d.write {
			d.decode()
		}
		if d.read < d.write {
			var n int
			n, err = w.Write(d.buffer[d.read:d.write])
			d.read += n
			size += int64(n)
		} else {
			err = d.err
		}
	}
	if err == io.EOF {
		err = nil
	}
	return size, err
}

// decode fills the buffer.
func (d *Decoder) decode() {
	if d.full() { // what distances can reach moves to the front
		d.read = copy(d.buffer, d.buffer[d.write-d.codes.reach:d.write])
		d.write = d.read
	}
	for d.err == nil && !d.full() {
		d.err = d.phase(d)
	}
	// What was looked at and not used stays in the source.
	d.giveBack()
	if err := d.discard(d.ip); err != nil && (d.err == nil || d.err == io.EOF) {
		d.err = err
	}
	d.in, d.ip = nil, 0
	if corrupt, is := d.err.(*CorruptError); is && corrupt.Offset == 0 {
		d.err = &CorruptError{d.taken, corrupt.What}
	}
}

func (d *Decoder) discard(n int) error {
	n, err := d.src.Discard(n)
	d.taken += int64(n)
	return err
}

// full says that the fast loop has no room any more.
func (d *Decoder) full() bool { return d.write+outputRoom > len(d.buffer) }

// giveBack leaves less than a byte in the bit buffer.
func (d *Decoder) giveBack() {
	d.ip -= int(d.count >> 3)
	d.count &= 7
	d.bits &= 1<<d.count - 1
}

// more takes at least one more byte, if there are not more than 56 bits.
func (d *Decoder) more() error {
	if d.ip+8 <= len(d.in) {
		d.bits |= binary.LittleEndian.Uint64(d.in[d.ip:]) << d.count
		d.ip += int(63-d.count) >> 3
		d.count |= 56
		return nil
	}
	if d.ip == len(d.in) {
		if err := d.look(); err != nil {
			return err
		}
	}
	d.bits |= uint64(d.in[d.ip]) << d.count
	d.ip++
	d.count += 8
	return nil
}

// look makes at least one more byte of the source be at hand.
func (d *Decoder) look() error {
	ahead := int(d.count >> 3) // in the bit buffer, and given back
	if err := d.discard(d.ip - ahead); err != nil {
		return err
	}
	in, err := d.src.Peek(max(ahead+1, d.src.Buffered()))
	if len(in) > ahead {
		d.in, d.ip = in, ahead
		return nil
	}
	d.in, d.ip = in, len(in)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
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

// symbol takes a code and returns its entry, whose extra bits are not taken.
func (d *Decoder) symbol(table []uint32, root uint) (uint32, error) {
	for {
		e, n := table[d.bits&(1<<root-1)], uint(0)
		if e&kindMask == kindPointer {
			n = root
			e = table[uint64(e>>valueShift)+d.bits>>root&(1<<(e>>codeShift&15)-1)]
		}
		n += uint(e >> codeShift & 15)
		if n <= d.count {
			d.bits >>= n
			d.count -= n
			return e, nil
		}
		if err := d.more(); err != nil {
			return 0, err
		}
	}
}

// value takes the extra bits of a length or distance and returns it.
func (d *Decoder) value(e uint32) (int, error) {
	extra, err := d.take(uint(e&63 - e>>codeShift&15))
	return int(e>>valueShift) + extra, err
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
		d.tables = &d.codes.fixed
		d.phase = (*Decoder).compressed
		return nil
	case 2:
		d.tables = &d.own
		d.phase = (*Decoder).compressed
		return d.dynamicHeader()
	}
	return corrupt("a block of no known type")
}

// storedHeader reads the lengths of a stored block (3.2.4), which start at a
// whole byte.
func (d *Decoder) storedHeader() error {
	d.giveBack()
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
		return corrupt("a stored block that contradicts its own length")
	}
	d.giveBack()
	d.stored, d.phase = length, (*Decoder).storedData
	return nil
}

func (d *Decoder) storedData() error {
	if d.stored > 0 && d.ip == len(d.in) {
		if err := d.look(); err != nil {
			return err
		}
	}
	n := copy(d.buffer[d.write:], d.in[d.ip:min(len(d.in), d.ip+d.stored)])
	d.ip += n
	d.write += n
	d.stored -= n
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
	if literals > maxLiterals || distances > d.codes.maxDistances {
		return corrupt("a block with more codes than there are")
	}
	var lengths [maxLiterals + 32]byte
	for i := range orders {
		n, err := d.take(3)
		if err != nil {
			return err
		}
		lengths[lengthOrder[i]] = byte(n)
	}
	if err := build(d.lengths[:], lengthRoot, lengths[:19], lengthEntries[:]); err != nil {
		return err
	}
	clear(lengths[:19])
	if err := d.readLengths(lengths[:literals+distances]); err != nil {
		return err
	}
	if err := build(d.own.literals[:], literalRoot, lengths[:literals], d.codes.literals[:]); err != nil {
		return err
	}
	return build(d.own.distances[:], distanceRoot, lengths[literals:literals+distances], d.codes.distances[:])
}

// readLengths reads the lengths of codes, which are zeros, by the code for them.
func (d *Decoder) readLengths(lengths []byte) error {
	for i := 0; i < len(lengths); {
		// As symbol does it, for a code that is all in its root.
		e := d.lengths[d.bits&(1<<lengthRoot-1)]
		n := uint(e >> codeShift & 15)
		if n > d.count {
			if err := d.more(); err != nil {
				return err
			}
			continue
		}
		d.bits >>= n
		d.count -= n
		if e&kindLiteral != 0 {
			lengths[i] = byte(e >> valueShift)
			i++
			continue
		}
		if e&kindMask == kindNone {
			return corrupt("a code length that there is not")
		}
		if i == 0 && e&kindMask == kindAgain {
			return corrupt("a code length that repeats nothing")
		}
		repeats, err := d.value(e)
		if err != nil {
			return err
		}
		value := byte(0)
		if e&kindMask == kindAgain {
			value = lengths[i-1]
		}
		if i+repeats > len(lengths) {
			return corrupt("more lengths of codes than a block can have")
		}
		for range repeats {
			lengths[i] = value
			i++
		}
	}
	return nil
}

// compressed decodes symbols until the buffer is full or the block ends.
func (d *Decoder) compressed() error {
	for !d.full() {
		if d.length > 0 {
			d.match()
			continue
		}
		if err := d.fast(); err != nil {
			return err
		}
		if d.full() {
			return nil
		}
		e, err := d.symbol(d.tables.literals[:], literalRoot)
		if err != nil {
			return err
		}
		switch e & kindMask {
		case kindLiteral:
			d.buffer[d.write] = byte(e >> valueShift)
			d.write++
		case kindEnd:
			d.phase = (*Decoder).block
			return nil
		case kindNone:
			return corrupt("a length code that there is not")
		default:
			if err := d.startMatch(e); err != nil {
				return err
			}
		}
	}
	return nil
}

// startMatch takes what describes a match.
func (d *Decoder) startMatch(e uint32) error {
	length, err := d.value(e)
	if err != nil {
		return err
	}
	if e, err = d.symbol(d.tables.distances[:], distanceRoot); err != nil {
		return err
	}
	if e&kindMask == kindNone {
		return errNoDistance
	}
	if d.distance, err = d.value(e); err != nil {
		return err
	}
	if d.distance > d.write {
		return errTooFar
	}
	d.length = length
	return nil
}

// match copies as much of a match as there is room for.
func (d *Decoder) match() {
	n := min(d.length, len(d.buffer)-d.write)
	d.length -= n
	for to := d.write + n; d.write < to; {
		d.write += copy(d.buffer[d.write:to], d.buffer[d.write-d.distance:d.write])
	}
}
