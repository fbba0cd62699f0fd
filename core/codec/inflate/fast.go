package inflate

import "encoding/binary"

// Entries of the tables of the fast loop: one 32-bit word for each of the next
// bits of input.
//
//	bits 0–3    length of the code; 0: longer than the table's, or none
//	bits 4–7    extra bits of a length or distance
//	bit  8      it is a literal
//	bits 16–31  the literal, or the base of the length or distance
const (
	codeMask    = 15
	extraShift  = 4
	literalFlag = 1 << 8
	valueShift  = 16

	literalBits  = 11
	distanceBits = 9
)

// The loop needs this much room in front of it: input for two refills and what
// they look ahead, output for three literals and the longest match with what is
// copied too far.
const (
	inputRoom  = 16
	outputRoom = 3 + 258 + 16
)

// fill makes a fast table of the codes that are no longer than its bits. entry is
// that of a symbol without its code; 0 leaves it to the slow way.
func fill(fast []uint32, bits int, lengths []byte, entry func(symbol int) uint32) {
	clear(fast)
	eachCode(lengths, func(symbol, length, word int) {
		w := entry(symbol)
		if length > bits || w == 0 {
			return
		}
		w |= uint32(length)
		for at := word; at < len(fast); at += 1 << length {
			fast[at] = w
		}
	})
}

// literalEntry is the entry of a literal or length.
func (d *Decoder) literalEntry(symbol int) uint32 {
	switch {
	case symbol < endOfBlock:
		return literalFlag | uint32(symbol)<<valueShift
	case symbol == endOfBlock:
		return 0
	}
	codes := &lengthCodes
	if d.wide {
		codes = &wideLengthCodes
	}
	if symbol-endOfBlock-1 >= len(codes) {
		return 0
	}
	c := codes[symbol-endOfBlock-1]
	if c.bits > 15 { // of deflate64
		return 0
	}
	return uint32(c.base)<<valueShift | uint32(c.bits)<<extraShift
}

// distanceEntry is the entry of a distance.
func (d *Decoder) distanceEntry(symbol int) uint32 {
	if symbol >= 30 && !d.wide {
		return 0
	}
	c := distanceCodes[symbol]
	return uint32(c.base)<<valueShift | uint32(c.bits)<<extraShift
}

// fast decodes symbols as long as there is room in front, in input and output.
// It leaves the rest, long codes, ends and errors to the slow way.
func (d *Decoder) fast() {
	in, err := d.peek.Peek(max(d.peek.Buffered(), inputRoom))
	if err != nil && len(in) < inputRoom {
		return
	}
	out := d.buffer
	bits, count := d.bits, d.count
	ip, op := 0, d.write
	literals, distances := &d.fastLiterals, &d.fastDistances
	for ip+inputRoom <= len(in) && op+outputRoom <= len(out) {
		bits |= binary.LittleEndian.Uint64(in[ip:]) << (count & 63)
		ip += int(63-count) >> 3
		count |= 56
		e := literals[bits&(1<<literalBits-1)]
		if e&literalFlag != 0 {
			out[op] = byte(e >> valueShift)
			op++
			bits >>= e & codeMask
			count -= uint(e & codeMask)
			e = literals[bits&(1<<literalBits-1)]
			if e&literalFlag != 0 {
				out[op] = byte(e >> valueShift)
				op++
				bits >>= e & codeMask
				count -= uint(e & codeMask)
				e = literals[bits&(1<<literalBits-1)]
				if e&literalFlag != 0 {
					out[op] = byte(e >> valueShift)
					op++
					bits >>= e & codeMask
					count -= uint(e & codeMask)
					continue
				}
			}
			bits |= binary.LittleEndian.Uint64(in[ip:]) << (count & 63)
			ip += int(63-count) >> 3
			count |= 56
		}
		n := e & codeMask
		if n == 0 {
			break
		}
		// A length: its code, its extra bits, the code of the distance and
		// the extra bits of that are at most 48 bits.
		b := bits >> n
		x := e >> extraShift & 15
		length := int(e>>valueShift) + int(b&(1<<x-1))
		b >>= x
		f := distances[b&(1<<distanceBits-1)]
		m := f & codeMask
		if m == 0 {
			break
		}
		b >>= m
		y := f >> extraShift & 15
		distance := int(f>>valueShift) + int(b&(1<<y-1))
		if distance > op || distance > d.reach {
			break // the slow way says what is wrong
		}
		bits = b >> y
		count -= uint(n + x + m + y)
		copyMatch(out, op, distance, length)
		op += length
	}
	// What was looked at and not used stays in the input.
	unused := count >> 3
	ip -= int(unused)
	count &= 7
	d.bits, d.count = bits&(1<<count-1), count
	d.write = op
	d.peek.Discard(ip) // no more than was looked at
}

// copyMatch copies a match, and up to 15 bytes more.
func copyMatch(out []byte, op, distance, length int) {
	from := op - distance
	switch {
	case distance >= 16:
		for n := 0; n < length; n += 16 {
			s, t := out[from+n:from+n+16:from+n+16], out[op+n:op+n+16:op+n+16]
			a, b := binary.LittleEndian.Uint64(s), binary.LittleEndian.Uint64(s[8:])
			binary.LittleEndian.PutUint64(t, a)
			binary.LittleEndian.PutUint64(t[8:], b)
		}
	case distance >= 8:
		for n := 0; n < length; n += 8 {
			binary.LittleEndian.PutUint64(out[op+n:], binary.LittleEndian.Uint64(out[from+n:]))
		}
	case distance == 1:
		spread := uint64(out[from]) * 0x0101010101010101
		for n := 0; n < length; n += 8 {
			binary.LittleEndian.PutUint64(out[op+n:], spread)
		}
	default:
		for n := range length {
			out[op+n] = out[from+n]
		}
	}
}
