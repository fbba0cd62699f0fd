// Package bzip2 decodes bzip2: streams one behind the other, whose blocks are decoded on
// several cores. The format has no public standard; it is what its documentation and all of
// its files say: a block is run-length coded, sorted (Burrows-Wheeler), moved to front, and
// coded with up to six Huffman codes that take turns.
package bzip2

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrCorrupt is in the chain of every error about the data.
var ErrCorrupt = errors.New("the bzip2 data is corrupt")

func corrupt(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrCorrupt, fmt.Sprintf(format, args...))
}

// The numbers of the format.
const (
	blockMagic = 0x314159265359 // π
	endMagic   = 0x177245385090 // √π
	magicBits  = 48

	unit        = 100_000 // of the sizes of blocks, by level
	largest     = 9 * unit
	perSelector = 50 // symbols of a code, before the next has its turn
	mostCodes   = 6
	longestCode = 20
	mostSymbols = 258
	runA, runB  = 0, 1
)

// rootBits are how many bits are looked up at once; longer codes are rare.
const rootBits = 10

// code is a Huffman code.
type code struct {
	root    [1 << rootBits]uint16 // symbol<<5 | length; 0: longer, or none
	limit   [longestCode + 2]uint32
	base    [longestCode + 2]int32
	perm    [mostSymbols]uint16
	shorter int // the shortest length that is not in the root
}

// block decodes one at a time. What it needs is made once.
type block struct {
	codes     [mostCodes]code
	selectors []byte
	symbols   [256]byte
	links     []uint32 // of the sorted block: byte, and above it what follows it
	size      int      // before the run-length code is taken back
	out       []byte

	in   []byte // with padding behind its end
	end  int    // of the data in it, in bytes
	at   int    // of the next byte
	held uint64 // bits that were taken from it, the next one highest
	left int    // how many
}

// padding is how many bytes may be read behind the data.
const padding = 16

// fill makes sure that there are at least 56 bits, as far as the data reaches.
func (b *block) fill() {
	if b.at+8 <= len(b.in) {
		b.held |= binary.BigEndian.Uint64(b.in[b.at:]) >> b.left
		n := (63 - b.left) >> 3
		b.at += n
		b.left += n << 3
	}
}

// bits takes up to 32.
func (b *block) bits(n int) uint32 {
	if b.left < n {
		b.fill()
	}
	v := uint32(b.held >> (64 - n))
	b.held <<= n
	b.left -= n
	return v
}

// used is how many bits were taken.
func (b *block) used() int { return b.at*8 - b.left }

// decode decodes the block at a bit of data, behind which there is padding. It returns what is
// in it, which is good until the next call, where in data it ends, and its checksum.
func (b *block) decode(data []byte, bit int) (out []byte, end int, sum uint32, err error) {
	b.in, b.end, b.at, b.held, b.left = data, len(data)-padding, bit/8, 0, 0
	b.bits(bit % 8)
	if uint64(b.bits(24))<<24|uint64(b.bits(24)) != blockMagic {
		return nil, 0, 0, corrupt("no block starts where one should")
	}
	sum = b.bits(32)
	if b.bits(1) != 0 {
		return nil, 0, 0, corrupt("a block is randomized, as the first packers did, which is not read")
	}
	start := int(b.bits(24))
	codes, symbols, err := b.readCodes()
	if err != nil {
		return nil, 0, 0, err
	}
	n, counts, err := b.readSymbols(codes, symbols)
	if err != nil {
		return nil, 0, 0, err
	}
	if end = b.used(); end > b.end*8 {
		return nil, end, 0, errCut
	}
	if start >= n {
		return nil, 0, 0, corrupt("a block starts behind its end")
	}
	b.size = n
	b.unsort(n, counts)
	b.expand(n, start)
	if found := checksum(b.out); found != sum {
		return nil, end, 0, corrupt("a block has the checksum %08x where its header says %08x", found, sum)
	}
	return b.out, end, sum, nil
}

// errCut is the error of a block that goes on where the data ends.
var errCut = errors.New("the bzip2 data is cut off")

// readCodes reads which bytes there are, which code has its turn when, and the codes.
func (b *block) readCodes() (codes, symbols int, err error) {
	ranges := b.bits(16)
	n := 0
	for i := range 16 {
		if ranges>>(15-i)&1 == 0 {
			continue
		}
		used := b.bits(16)
		for j := range 16 {
			if used>>(15-j)&1 != 0 {
				b.symbols[n] = byte(i*16 + j)
				n++
			}
		}
	}
	if n == 0 {
		return 0, 0, corrupt("a block has no bytes")
	}
	codes = int(b.bits(3))
	selectors := int(b.bits(15))
	if codes < 2 || codes > mostCodes || selectors == 0 {
		return 0, 0, corrupt("a block has an impossible number of codes")
	}
	var order [mostCodes]byte
	for i := range order {
		order[i] = byte(i)
	}
	b.selectors = b.selectors[:0]
	for range selectors {
		i := 0
		for b.bits(1) != 0 {
			if i++; i >= codes {
				return 0, 0, corrupt("a block takes turns with a code that there is not")
			}
		}
		c := order[i]
		copy(order[1:i+1], order[:i])
		order[0] = c
		b.selectors = append(b.selectors, c)
		if b.at > b.end+padding {
			return 0, 0, errCut
		}
	}
	symbols = n + 2
	for i := range codes {
		var lengths [mostSymbols]uint8
		length := int(b.bits(5))
		for s := range symbols {
			for {
				if length < 1 || length > longestCode {
					return 0, 0, corrupt("a code has an impossible length")
				}
				if b.bits(1) == 0 {
					break
				}
				length += 1 - 2*int(b.bits(1))
			}
			lengths[s] = uint8(length)
		}
		if err := b.codes[i].build(lengths[:symbols]); err != nil {
			return 0, 0, err
		}
	}
	return codes, symbols, nil
}

// build makes a code of the lengths of its symbols.
func (c *code) build(lengths []uint8) error {
	var count [longestCode + 2]int
	for _, n := range lengths {
		count[n]++
	}
	clear(c.root[:])
	next, at := uint32(0), 0
	c.shorter = longestCode + 1
	for n := 1; n <= longestCode; n++ {
		c.base[n] = int32(at) - int32(next)
		for s, length := range lengths {
			if int(length) != n {
				continue
			}
			c.perm[at] = uint16(s)
			at++
			if n <= rootBits {
				first := next << (rootBits - n)
				for i := first; i < first+1<<(rootBits-n) && i < 1<<rootBits; i++ {
					c.root[i] = uint16(s)<<5 | uint16(n)
				}
			} else if c.shorter > n {
				c.shorter = n
			}
			next++
		}
		c.limit[n] = next << (longestCode - n) // of codes of up to this length, as wide as the longest
		if next > 1<<n {
			return corrupt("a code has more symbols than its lengths allow")
		}
		next <<= 1
	}
	return nil
}

// long decodes a symbol whose code is longer than the root; of the next bits, as many as the
// longest code has. A length of 0: there is no such code.
func (c *code) long(bits uint32) (symbol uint16, length int) {
	for n := c.shorter; n <= longestCode; n++ {
		if bits < c.limit[n] {
			at := int32(bits>>(longestCode-n)) + c.base[n]
			if at < 0 || int(at) >= len(c.perm) {
				return 0, 0
			}
			return c.perm[at], n
		}
	}
	return 0, 0
}

// readSymbols decodes the symbols: runs of the byte in front, bytes that move to the front,
// and the end. It returns how many bytes the block has, and how often each.
func (b *block) readSymbols(codes, symbols int) (n int, counts *[256]int, err error) {
	if b.links == nil {
		b.links = make([]uint32, largest)
	}
	counts = new([256]int)
	list := b.symbols
	links := b.links
	end := uint16(symbols - 1)
	run, weight := 0, 1
	for _, selector := range b.selectors {
		c := &b.codes[selector]
		for range perSelector {
			if b.left < longestCode {
				b.fill()
				if b.at > b.end+padding || b.left < longestCode {
					return 0, nil, errCut
				}
			}
			e := c.root[b.held>>(64-rootBits)]
			symbol, length := e>>5, int(e&31)
			if length == 0 {
				if symbol, length = c.long(uint32(b.held >> (64 - longestCode))); length == 0 {
					return 0, nil, corrupt("a block has a code that there is not")
				}
			}
			b.held <<= length
			b.left -= length
			if symbol <= runB {
				if weight > largest {
					return 0, nil, corrupt("a block is larger than blocks can be")
				}
				run += weight << symbol
				weight <<= 1
				continue
			}
			if run > 0 {
				if run > largest-n {
					return 0, nil, corrupt("a block is larger than blocks can be")
				}
				front := list[0]
				counts[front] += run
				for i := range links[n : n+run] {
					links[n+i] = uint32(front)
				}
				n += run
				run, weight = 0, 1
			}
			if symbol == end {
				return n, counts, nil
			}
			if n == largest {
				return 0, nil, corrupt("a block is larger than blocks can be")
			}
			at := int(symbol-1) & 0xff
			front := list[at]
			if at < 16 {
				for i := at; i > 0; i-- {
					list[i] = list[i-1]
				}
			} else {
				copy(list[1:at+1], list[:at])
			}
			list[0] = front
			counts[front]++
			links[n] = uint32(front)
			n++
		}
	}
	return 0, nil, corrupt("a block has no end")
}

// unsort makes the links from each byte to the one that follows it.
func (b *block) unsort(n int, counts *[256]int) {
	var next [256]uint32
	sum := uint32(0)
	for c, count := range counts {
		next[c] = sum
		sum += uint32(count)
	}
	links := b.links[:n]
	for i := range links {
		c := byte(links[i])
		links[next[c]] |= uint32(i) << 8
		next[c]++
	}
}

// expand follows the links from the first byte on, and takes the run-length code back: after
// four equal bytes there is a number of more.
func (b *block) expand(n, start int) {
	links := b.links[:n]
	if cap(b.out) < n+n/4 {
		b.out = make([]byte, 0, n+n/4)
	}
	out := b.out[:0]
	at := links[start] >> 8
	same, last := 0, -1
	for range n {
		link := links[at]
		c := byte(link)
		at = link >> 8
		switch {
		case same == 4:
			same = 0
			for range c {
				out = append(out, byte(last))
			}
			last = -1
			continue
		case int(c) == last:
			same++
		default:
			same, last = 1, int(c)
		}
		out = append(out, c)
	}
	b.out = out
}

// tables are for the checksum of blocks, a CRC-32 with its highest bit first, eight bytes at a
// time.
var tables = makeTables()

func makeTables() (t [8][256]uint32) {
	const polynomial = 0x04c11db7
	for i := range 256 {
		c := uint32(i) << 24
		for range 8 {
			c = c<<1 ^ -(c>>31)&polynomial
		}
		t[0][i] = c
	}
	for i := range 256 {
		for k := 1; k < 8; k++ {
			c := t[k-1][i]
			t[k][i] = c<<8 ^ t[0][c>>24]
		}
	}
	return t
}

func checksum(p []byte) uint32 {
	c := ^uint32(0)
	t := &tables
	for len(p) >= 8 {
		a := c ^ binary.BigEndian.Uint32(p)
		z := binary.BigEndian.Uint32(p[4:])
		c = t[7][a>>24] ^ t[6][a>>16&0xff] ^ t[5][a>>8&0xff] ^ t[4][a&0xff] ^ t[3][z>>24] ^ t[2][z>>16&0xff] ^ t[1][z>>8&0xff] ^ t[0][z&0xff]
		p = p[8:]
	}
	for _, v := range p {
		c = c<<8 ^ t[0][byte(c>>24)^v]
	}
	return ^c
}
