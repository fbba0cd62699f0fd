package lzma

// A probability that the next bit is 0 is a number below 2,048; each bit moves it by a
// 32nd of the way.
const (
	probBits = 11
	moveBits = 5
	even     = 1 << probBits / 2
	topValue = 1 << 24
)

// coder is the state of the range decoder: what is left of the range, and where in it the
// code is. It is passed by value, so that it stays in registers, and its methods are small
// enough to be put in where they are called.
type coder struct {
	span, code uint32
	at         int // of the next byte of the input
}

// refill makes the range wide enough for a bit.
func (c coder) refill(in []byte) coder {
	if c.span < topValue {
		c.span <<= 8
		c.code = c.code<<8 | uint32(in[c.at])
		c.at++
	}
	return c
}

// bit decodes one by its probability.
func (c coder) bit(p *uint16) (coder, uint32) {
	v := uint32(*p)
	bound := (c.span >> probBits) * v
	if c.code < bound {
		c.span = bound
		*p = uint16(v + (1<<probBits-v)>>moveBits)
		return c, 0
	}
	c.span -= bound
	c.code -= bound
	*p = uint16(v - v>>moveBits)
	return c, 1
}

// flat is bit without a branch, for bits that nobody could foretell.
func (c coder) flat(p *uint16) (coder, uint32) {
	v := uint32(*p)
	bound := (c.span >> probBits) * v
	less := uint32(int64(uint64(c.code)-uint64(bound)) >> 63) // all ones if the bit is 0
	c.span = bound&less | (c.span-bound)&^less
	c.code -= bound &^ less
	*p = uint16(v - uint32(int32(v-(1<<probBits-31)&less)>>moveBits))
	return c, less + 1
}

// even decodes a bit that is 0 as often as 1.
func (c coder) even() (coder, uint32) {
	c.span >>= 1
	c.code -= c.span
	less := uint32(int32(c.code) >> 31) // all ones if the bit is 0
	c.code += c.span & less
	return c, less + 1
}

// The trees of bits that follow have functions of their own, in which everything stays in
// registers: there are too many variables around them.

// literal decodes a byte.
func (c coder) literal(in []byte, probs *[literalSize]uint16) (coder, uint32) {
	var bit uint32
	symbol := uint32(1)
	for symbol < 0x100 {
		c, bit = c.refill(in).flat(&probs[symbol])
		symbol = symbol<<1 | bit
	}
	return c, symbol
}

// matched decodes a byte that comes after a match: as long as its bits are those of the byte
// at the same distance, that one says which model is used.
func (c coder) matched(in []byte, probs *[literalSize]uint16, match uint32) (coder, uint32) {
	var bit uint32
	symbol := uint32(1)
	for offset := uint32(0x100); symbol < 0x100; {
		match <<= 1
		c, bit = c.refill(in).flat(&probs[offset+match&offset+symbol])
		symbol = symbol<<1 | bit
		offset &= match ^ (bit - 1)
	}
	return c, symbol
}

// tree decodes as many bits as the models are for, the highest first, after a leading 1.
func (c coder) tree(in []byte, probs []uint16) (coder, uint32) {
	var bit uint32
	symbol := uint32(1)
	for int(symbol) < len(probs) {
		c, bit = c.refill(in).bit(&probs[symbol])
		symbol = symbol<<1 | bit
	}
	return c, symbol
}

// reverse decodes n bits, the lowest first.
func (c coder) reverse(in []byte, probs []uint16, n uint32) (coder, uint32) {
	var bit uint32
	value := uint32(0)
	for i, tree := uint32(0), uint32(1); i < n; i++ {
		c, bit = c.refill(in).bit(&probs[tree])
		tree = tree<<1 | bit
		value |= bit << i
	}
	return c, value
}

// direct decodes n bits without models, the highest first.
func (c coder) direct(in []byte, n uint32) (coder, uint32) {
	var bit uint32
	value := uint32(0)
	for range n {
		c, bit = c.refill(in).even()
		value = value<<1 | bit
	}
	return c, value
}
