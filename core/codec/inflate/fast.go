package inflate

import "encoding/binary"

// The loop needs this much room: input for two refills, output for two literals
// and the longest match, with what is copied too far.
const (
	inputRoom  = 16
	outputRoom = 258 + 32
)

// fast decodes symbols as long as there is room in front, in input and output.
// It leaves the rest to the careful way.
//
// A refill gives at least 56 bits. They are enough for three literals from the
// root, or for two and a length with its extra bits (22 and 20); a distance with
// its extra bits has at most 29, after a refill of its own. Each way leaves
// enough for the next entry to be looked up early. The literals are written out
// one by one, as a loop or a function for them would cost as much as they do.
func (d *Decoder) fast() error {
	in, out := d.in, d.buffer
	ip, op := d.ip, d.write
	bits, count := d.bits, uint64(d.count)
	tables := d.tables
	if ip+inputRoom > len(in) {
		return nil
	}
	bits |= binary.LittleEndian.Uint64(in[ip:]) << (count & 63)
	ip += int(^count >> 3 & 7)
	count |= 56
	e := tables.literals[bits&(1<<literalRoot-1)] // always the next entry, looked up early
	var err error
	for ip+inputRoom <= len(in) && op+outputRoom <= len(out) {
		bits |= binary.LittleEndian.Uint64(in[ip:ip+8]) << (count & 63)
		ip += int(^count >> 3 & 7)
		count |= 56
		if e&kindLiteral != 0 {
			out[op] = byte(e >> valueShift)
			op++
			bits >>= e & 63
			count -= uint64(e)
			e = tables.literals[bits&(1<<literalRoot-1)]
			if e&kindLiteral != 0 {
				out[op] = byte(e >> valueShift)
				op++
				bits >>= e & 63
				count -= uint64(e)
				e = tables.literals[bits&(1<<literalRoot-1)]
				if e&kindLiteral != 0 {
					out[op] = byte(e >> valueShift)
					op++
					bits >>= e & 63
					count -= uint64(e)
					e = tables.literals[bits&(1<<literalRoot-1)]
					continue
				}
			}
		}
		if e&kindOdd != 0 {
			if e&kindMask == kindPointer {
				e = tables.literals[(uint64(e>>valueShift)+bits>>literalRoot&(1<<(e>>codeShift&15)-1))&(literalSize-1)]
			}
			if e&kindOdd != 0 {
				break
			}
			bits >>= literalRoot
			count -= literalRoot
			if e&kindLiteral != 0 {
				out[op] = byte(e >> valueShift)
				op++
				bits >>= e & 63
				count -= uint64(e)
				e = tables.literals[bits&(1<<literalRoot-1)]
				continue
			}
		}
		length := int(e>>valueShift) + int(bits&(1<<(e&63)-1)>>(e>>codeShift&15))
		bits >>= e & 63
		count -= uint64(e)
		e = tables.distances[bits&(1<<distanceRoot-1)]
		bits |= binary.LittleEndian.Uint64(in[ip:ip+8]) << (count & 63)
		ip += int(^count >> 3 & 7)
		count |= 56
		if e&kindMask == kindPointer {
			bits >>= distanceRoot
			count -= distanceRoot
			e = tables.distances[(uint64(e>>valueShift)+bits&(1<<(e>>codeShift&15)-1))&(distanceSize-1)]
		}
		if e&kindOdd != 0 {
			err = errNoDistance
			break
		}
		distance := int(e>>valueShift) + int(bits&(1<<(e&63)-1)>>(e>>codeShift&15))
		bits >>= e & 63
		count -= uint64(e)
		if distance > op {
			err = errTooFar
			break
		}
		e = tables.literals[bits&(1<<literalRoot-1)]
		if distance >= 16 && length <= 32 {
			from := op - distance
			s, t := out[from:from+32:from+32], out[op:op+32:op+32]
			*(*[16]byte)(t) = *(*[16]byte)(s)
			*(*[16]byte)(t[16:]) = *(*[16]byte)(s[16:])
		} else {
			copyMatch(out, op, distance, length)
		}
		op += length
	}
	d.bits, d.count = bits, uint(count&63)
	d.ip, d.write = ip, op
	return err
}

// copyMatch copies a match, and up to 31 bytes more.
func copyMatch(out []byte, op, distance, length int) {
	from := op - distance
	switch {
	case distance >= 16:
		s, t := out[from:from+32:from+32], out[op:op+32:op+32]
		*(*[16]byte)(t) = *(*[16]byte)(s)
		*(*[16]byte)(t[16:]) = *(*[16]byte)(s[16:])
		for n := 32; n < length; n += 16 {
			*(*[16]byte)(out[op+n:]) = *(*[16]byte)(out[from+n:])
		}
	case distance == 1:
		spread := uint64(out[from]) * 0x0101010101010101
		for n := 0; n < length; n += 8 {
			binary.LittleEndian.PutUint64(out[op+n:], spread)
		}
	default:
		// A short pattern is doubled until eight bytes can be copied at once.
		for distance < 8 {
			t := out[op : op+8 : op+8]
			binary.LittleEndian.PutUint64(t, binary.LittleEndian.Uint64(out[from:]))
			if length <= distance {
				return
			}
			op += distance
			length -= distance
			distance *= 2
		}
		for n := 0; n < length; n += 8 {
			binary.LittleEndian.PutUint64(out[op+n:], binary.LittleEndian.Uint64(out[from+n:]))
		}
	}
}
