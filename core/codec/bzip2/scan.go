package bzip2

import "encoding/binary"

// A magic number stands at any bit. The byte after the one that it starts in is all its own:
// a table says, for each value of that byte, the shifts at which it may be that of a magic.
var maybe = makeMaybe()

func makeMaybe() (t [256]uint16) {
	for shift := range 8 {
		for k, magic := range []uint64{blockMagic, endMagic} {
			// The bits 8-shift to 16-shift of the magic, from its start.
			second := byte(magic >> (magicBits - 16 + shift))
			t[second] |= 1 << (2*shift + k)
		}
	}
	return t
}

// find looks for the next magic number in data, of which the first six bytes of one are all
// there, at a bit from from on. It returns its bit, -1 if there is none, and whether it is that
// of an end.
func find(data []byte, from int) (bit int, end bool) {
	for i := from / 8; i+7 <= len(data); i++ {
		hits := maybe[data[i+1]]
		if hits == 0 {
			continue
		}
		word := uint64(data[i])<<48 | uint64(data[i+1])<<40 | uint64(binary.BigEndian.Uint32(data[i+2:]))<<8 | uint64(data[i+6])
		for shift := range 8 {
			if hits>>(2*shift)&3 == 0 || i*8+shift < from {
				continue
			}
			switch word >> (8 - shift) & (1<<magicBits - 1) {
			case blockMagic:
				return i*8 + shift, false
			case endMagic:
				return i*8 + shift, true
			}
		}
	}
	return -1, false
}
