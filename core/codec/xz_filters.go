package codec

import (
	"encoding/binary"
	"io"
)

// The filters that a block may have besides LZMA2 (The .xz File Format, section 5.3): the
// delta filter, and those that make the targets of branches in machine code absolute. The
// places of filters in the header are those of packing; unpacking goes the other way.

const (
	filterDelta   = 0x03
	filterX86     = 0x04
	filterPowerPC = 0x05
	filterIA64    = 0x06
	filterARM     = 0x07
	filterThumb   = 0x08
	filterSPARC   = 0x09
	filterARM64   = 0x0a
	filterRISCV   = 0x0b
)

// xzFilter is what the header of a block says of one.
type xzFilter struct {
	id    int64
	props []byte
}

// undo returns what reads data and takes a filter back; nil: there is no such filter, or not
// with such properties.
func (f *xzFilter) undo(data io.Reader) io.Reader {
	if f.id == filterDelta {
		if len(f.props) != 1 {
			return nil
		}
		return &delta{src: data, distance: int(f.props[0]) + 1}
	}
	b := &branches{src: data}
	switch f.id {
	case filterX86:
		x := &x86{before: ^uint32(4)} // five bytes before the start
		b.undo = x.undo
	case filterPowerPC:
		b.undo = each(4, 4, undoPowerPC)
	case filterIA64:
		b.undo = each(16, 16, undoIA64)
	case filterARM:
		b.undo = each(4, 4, undoARM)
	case filterThumb:
		b.undo = each(2, 4, undoThumb)
	case filterSPARC:
		b.undo = each(4, 4, undoSPARC)
	case filterARM64:
		b.undo = each(4, 4, undoARM64)
	case filterRISCV:
		b.undo = each(2, 8, undoRISCV)
	default:
		return nil
	}
	switch len(f.props) {
	case 0:
	case 4:
		b.pos = binary.LittleEndian.Uint32(f.props)
	default:
		return nil
	}
	return b
}

// delta takes back the differences to the bytes a distance before (5.3.3).
type delta struct {
	src      io.Reader
	distance int
	history  [256]byte
	at       int
}

func (d *delta) Read(p []byte) (int, error) {
	n, err := d.src.Read(p)
	for i := range n {
		p[i] += d.history[(d.at-d.distance)&0xff]
		d.history[d.at&0xff] = p[i]
		d.at++
	}
	return n, err
}

// branches takes back what was done to machine code (5.3.2). undo gets it with the position
// of its first byte, and says how much of it is done; what is left it sees again, with more
// behind it.
type branches struct {
	src  io.Reader
	undo func(pos uint32, code []byte) int
	pos  uint32 // of what follows in the buffer
	buf  [4096]byte
	from int // what was not handed out
	done int // end of what is right
	end  int // end of what is there
	err  error
}

func (b *branches) Read(p []byte) (int, error) {
	for b.from == b.done && b.err == nil {
		copy(b.buf[:], b.buf[b.done:b.end])
		b.from, b.done, b.end = 0, 0, b.end-b.done
		var n int
		n, b.err = b.src.Read(b.buf[b.end:])
		b.end += n
		b.done = b.undo(b.pos, b.buf[:b.end])
		b.pos += uint32(b.done)
		if b.err != nil { // the last bytes are no whole instruction
			b.done = b.end
		}
	}
	if b.from == b.done {
		return 0, b.err
	}
	n := copy(p, b.buf[b.from:b.done])
	b.from += n
	return n, nil
}

// each goes through code in steps, and needs so many bytes for one. A step returns how many
// more are to be skipped.
func each(step, size int, undo func(pos uint32, code []byte) int) func(pos uint32, code []byte) int {
	return func(pos uint32, code []byte) int {
		i := 0
		for ; i+size <= len(code); i += step {
			i += undo(pos+uint32(i), code[i:i+size])
		}
		return i
	}
}

func undoARM(pos uint32, b []byte) int {
	if b[3] == 0xeb { // BL
		to := (uint32(b[0])|uint32(b[1])<<8|uint32(b[2])<<16)<<2 - (pos + 8)
		to >>= 2
		b[0], b[1], b[2] = byte(to), byte(to>>8), byte(to>>16)
	}
	return 0
}

func undoThumb(pos uint32, b []byte) int {
	if b[1]&0xf8 != 0xf0 || b[3]&0xf8 != 0xf8 { // BL, a pair
		return 0
	}
	to := (uint32(b[1]&7)<<19|uint32(b[0])<<11|uint32(b[3]&7)<<8|uint32(b[2]))<<1 - (pos + 4)
	to >>= 1
	b[0], b[1], b[2], b[3] = byte(to>>11), 0xf0|byte(to>>19)&7, byte(to), 0xf8|byte(to>>8)&7
	return 2
}

func undoARM64(pos uint32, b []byte) int {
	code := binary.LittleEndian.Uint32(b)
	switch {
	case code>>26 == 0x25: // BL
		code = 0x94000000 | (code-pos>>2)&0x03ffffff
	case code&0x9f000000 == 0x90000000: // ADRP
		from := code>>29&3 | code>>3&0x001ffffc
		if (from+0x00020000)&0x001c0000 != 0 {
			return 0
		}
		to := from - pos>>12
		code = code&0x9000001f | to&3<<29 | to&0x0003fffc<<3 | -(to&0x00020000)&0x00e00000
	}
	binary.LittleEndian.PutUint32(b, code)
	return 0
}

// undoRISCV takes back the targets of JAL, and those of AUIPC with the instruction after it, whose
// place has the absolute target. A pair that looked like one of these before packing was disguised
// as a pair of usual ones.
func undoRISCV(pos uint32, b []byte) int {
	const (
		auipc       = 0x17
		opcode      = 0x7f
		disguised   = 2 << 7 // register 2 as its target
		zeroOrTwo   = 0xe80  // none of these bits: the target is register 0 or 2
		afterTarget = 0xf8003
	)
	if b[0] == 0xef { // JAL
		if b[1]&0x0d != 0 { // not to register 1 or 5
			return 0
		}
		to := uint32(b[1]&0xf0)<<13 | uint32(b[2])<<9 | uint32(b[3])<<1 - pos
		b[1], b[2], b[3] = b[1]&0x0f|byte(to>>8)&0xf0, byte(to>>16)&0x0f|byte(to>>7)&0x10|byte(to<<4)&0xe0, byte(to>>4)&0x7f|byte(to>>13)&0x80
		return 2
	}
	first, second := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:])
	switch {
	case first&opcode != auipc:
		return 0
	case first&zeroOrTwo != 0:
		if (first<<8^(second-3))&afterTarget != 0 { // the second does not use the target
			return 4
		}
		first, second = auipc|disguised|second<<12, first&^0xfff+second>>20
	default:
		register := first >> 27
		if (first-(auipc|disguised|3<<12))<<18 >= register&0x1d {
			return 2
		}
		to := binary.BigEndian.Uint32(b[4:]) - pos
		first, second = auipc|register<<7|(to+0x800)&^0xfff, first>>12|to<<20
	}
	binary.LittleEndian.PutUint32(b, first)
	binary.LittleEndian.PutUint32(b[4:], second)
	return 6
}

func undoPowerPC(pos uint32, b []byte) int {
	if code := binary.BigEndian.Uint32(b); code>>26 == 0x12 && code&3 == 1 { // bl
		to := code&0x03fffffc - pos
		binary.BigEndian.PutUint32(b, 0x48000000|to&0x03fffffc|1)
	}
	return 0
}

func undoSPARC(pos uint32, b []byte) int {
	if code := binary.BigEndian.Uint32(b); code>>22 == 0x100 || code>>22 == 0x1ff { // call
		to := (code<<2 - pos) >> 2
		binary.BigEndian.PutUint32(b, -(to>>22&1)<<22&0x3fffffff|to&0x3fffff|0x40000000)
	}
	return 0
}

// slotsOfIA64 are those of a bundle, by its template, that may have a branch.
var slotsOfIA64 = [32]byte{16: 4, 4, 6, 6, 0, 0, 7, 7, 4, 4, 0, 0, 4, 4, 0, 0}

func undoIA64(pos uint32, b []byte) int {
	for slot := range 3 {
		if slotsOfIA64[b[0]&0x1f]>>slot&1 == 0 {
			continue
		}
		bit := 5 + 41*slot
		at, shift := bit/8, bit%8
		var six [8]byte
		copy(six[:], b[at:at+6])
		raw := binary.LittleEndian.Uint64(six[:])
		code := raw >> shift
		if code>>37&0xf != 5 || code>>9&7 != 0 { // br.call
			continue
		}
		to := uint32(code>>13&0xfffff|code>>36&1<<20)<<4 - pos
		to >>= 4
		code = code&^(0x8fffff<<13) | uint64(to&0xfffff)<<13 | uint64(to&0x100000)<<(36-20)
		raw = raw&(1<<shift-1) | code<<shift
		binary.LittleEndian.PutUint64(six[:], raw)
		copy(b[at:at+6], six[:])
	}
	return 0
}

// x86 takes back the targets of CALL and JMP, which start at any byte: of those near each
// other, only some were changed.
type x86 struct {
	before uint32 // position of the last opcode
	mask   uint32 // of those in the five bytes before, and whether their highest byte may be one
}

// isNear reports whether the highest byte of a target is that of a near one.
func isNear(b byte) bool { return b == 0 || b == 0xff }

func (x *x86) undo(pos uint32, code []byte) int {
	const size = 5
	if len(code) < size {
		return 0
	}
	if pos-x.before > size {
		x.before = pos - size
	}
	i := 0
	for i <= len(code)-size {
		if code[i]&0xfe != 0xe8 {
			i++
			continue
		}
		at := pos + uint32(i)
		if apart := at - x.before; apart > size {
			x.mask = 0
		} else {
			for range apart {
				x.mask = x.mask & 0x77 << 1
			}
		}
		x.before = at
		high := code[i+4]
		if near := x.mask >> 1; !isNear(high) || near > 4 || near == 3 {
			i++
			x.mask |= 1
			if isNear(high) {
				x.mask |= 0x10
			}
			continue
		}
		to := x.target(binary.LittleEndian.Uint32(code[i+1:]), at+size)
		binary.LittleEndian.PutUint32(code[i+1:], to&0x00ffffff|-(to>>24&1)<<24)
		i += size
		x.mask = 0
	}
	return i
}

// target is what an absolute target was before, seen from the instruction after it.
func (x *x86) target(from, next uint32) uint32 {
	bits := [5]uint{0, 1, 2, 2, 3}
	for {
		to := from - next
		if x.mask == 0 {
			return to
		}
		n := 8 * bits[x.mask>>1]
		if !isNear(byte(to >> (24 - n))) {
			return to
		}
		from = to ^ (1<<(32-n) - 1)
	}
}
