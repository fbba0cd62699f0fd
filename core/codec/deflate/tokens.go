package deflate

import "math/bits"

// What a match can be (RFC 1951, section 2 and 3.2.5).
const (
	window   = 32 << 10
	shortest = 3
	longest  = 258
)

// A token is a byte, or a match: its length less 3 from bit 15, its distance less 1
// below.
type token uint32

const isMatch token = 1 << 23

func match(length, distance int) token {
	return isMatch | token(length-shortest)<<15 | token(distance-1)
}

func (t token) length() int { return int(t>>15&0xff) + shortest }

// bytes is how many bytes it stands for.
func (t token) bytes() int {
	if t < isMatch {
		return 1
	}
	return t.length()
}

// The symbols of a histogram: bytes, the end of a block and lengths in the first
// alphabet; distances in the second.
const (
	endOfBlock = 256
	lengths    = 257 // the first of them
	distances  = 288 // the first of them
	symbols    = distances + 32
)

type histogram [symbols]uint32

// span is what a symbol of a length or distance stands for: from base on, with so many
// extra bits.
type span struct {
	base  uint16
	extra uint8
}

var (
	lengthSpans   [29]span
	distanceSpans [30]span
	lengthSymbol  [256]uint8 // by length less 3
	near, far     [256]uint8 // by distance less 1, and by 128ths of it
	below         [longest + 1]uint16
)

func init() {
	for s, at := 0, 0; s < len(lengthSpans)-1; s++ {
		extra := max(0, s/4-1)
		lengthSpans[s] = span{uint16(at + shortest), uint8(extra)}
		for range 1 << extra {
			if at < 256 {
				lengthSymbol[at] = uint8(s)
			}
			at++
		}
	}
	lengthSpans[28], lengthSymbol[255] = span{longest, 0}, 28 // the longest has a symbol of its own
	for s, at := 0, 0; s < len(distanceSpans); s++ {
		extra := max(0, s/2-1)
		distanceSpans[s] = span{uint16(at + 1), uint8(extra)}
		for end := at + 1<<extra; at < end; {
			if at < len(near) {
				near[at] = uint8(s)
				at++
				continue
			}
			far[at>>7] = uint8(s) // from 256 on, each has 128 or a multiple
			at += 1 << 7
		}
	}
	for length := shortest; length <= longest; length++ {
		below[length] = lengthSpans[lengthSymbol[length-shortest]].base - 1
	}
}

// distanceSymbol is that of a distance less 1.
func distanceSymbol(d token) int {
	if d < 256 {
		return int(near[d&0xff])
	}
	return int(far[d>>7&0xff])
}

// A block is a stretch of tokens with codes of its own.
type block struct {
	tokens, bytes int
	counts        histogram
	cost          int // in sixteenths of a bit, by entropy
}

// parsed is data as tokens, in pieces of perPiece of them, the last shorter.
type parsed struct {
	tokens []token
	pieces []block // as long as it ever was; the first count are in use
	count  int
	piece  *block
}

// perPiece is how finely blocks can end.
const perPiece = 1024

func (p *parsed) reset(size int) {
	if cap(p.tokens) < size {
		p.tokens = make([]token, 0, size)
	}
	p.tokens, p.count = p.tokens[:0], 0
	p.next()
}

// next begins a piece.
func (p *parsed) next() {
	if p.count == len(p.pieces) {
		p.pieces = append(p.pieces, block{})
	}
	p.piece = &p.pieces[p.count]
	*p.piece = block{}
	p.count++
}

// add adds a token and says whether the piece is full.
func (p *parsed) add(t token) bool {
	p.tokens = append(p.tokens, t)
	b := p.piece
	b.tokens++
	if t < isMatch {
		b.counts[t&0xff]++
		b.bytes++
	} else {
		b.counts[lengths+int(lengthSymbol[t>>15&0xff])]++
		b.counts[distances+distanceSymbol(t&(window-1))]++
		b.bytes += t.length()
	}
	return b.tokens == perPiece
}

// fractions are the logarithms of 1 to 2, in sixteenths of a bit.
var fractions [257]uint8

func init() {
	// The logarithm of a number is counted by squaring it: each time that it
	// reaches 2, a binary digit is 1.
	for i := range fractions {
		x, digits := uint64(256+i)<<23, uint8(0) // 1 is 1<<31
		for range 6 {
			hi, lo := bits.Mul64(x, x)
			x = hi<<33 | lo>>31
			digits <<= 1
			if x >= 1<<32 {
				x, digits = x>>1, digits|1
			}
		}
		fractions[i] = (digits + 2) >> 2
	}
	fractions[256] = 16
}

// log2 is the logarithm of n, which is at least 1, in sixteenths of a bit.
func log2(n uint32) int {
	whole := bits.Len32(n) - 1
	return whole<<4 + int(fractions[(uint64(n)<<8>>whole)&0xff])
}
