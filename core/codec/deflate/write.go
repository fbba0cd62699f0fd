package deflate

import "encoding/binary"

// codes are those of a block.
type codes struct {
	literals  [distances]word
	distances [32]word
	header    [19]word
	// What a header says of the two alphabets: symbols of its own code, each with what
	// its extra bits hold.
	lengths []headerSymbol
	// Words of lengths with their extra bits, made for a block.
	matches [longest + 1]struct {
		bits  uint32
		count uint8
	}
}

type headerSymbol struct{ symbol, extra uint8 }

// Kinds of blocks (RFC 1951, section 3.2.3).
const (
	stored  = 0
	fixed   = 1
	dynamic = 2
)

// headerOrder is that of the lengths of the header's own code (section 3.2.7).
var headerOrder = [19]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// headerExtra are the extra bits of its symbols.
var headerExtra = [19]uint8{16: 2, 17: 3, 18: 7}

var (
	fixedLiterals  [distances]word
	fixedDistances [32]word
)

func init() { // section 3.2.6
	lengthOf := func(s int) uint8 {
		switch {
		case s < 144:
			return 8
		case s < 256:
			return 9
		case s < 280:
			return 7
		}
		return 8
	}
	for s := range fixedLiterals {
		fixedLiterals[s].length = lengthOf(s)
	}
	number(fixedLiterals[:])
	for s := range fixedDistances {
		fixedDistances[s].length = 5
	}
	number(fixedDistances[:])
}

// write writes a block in whichever way is shortest.
func (e *Encoder) write(b *block, tokens []token, data []byte, last bool) {
	c := &e.codes
	b.counts[endOfBlock] = 1
	assign(c.literals[:], b.counts[:distances], longestLiteral)
	assign(c.distances[:], b.counts[distances:], longestDistance)
	extra := 0
	for s, of := range lengthSpans {
		extra += int(b.counts[lengths+s]) * int(of.extra)
	}
	for s, of := range distanceSpans {
		extra += int(b.counts[distances+s]) * int(of.extra)
	}
	literals, dists, words, header := c.describe()
	own := header + extra + total(b.counts[:distances], c.literals[:]) + total(b.counts[distances:], c.distances[:])
	usual := extra + total(b.counts[:distances], fixedLiterals[:]) + total(b.counts[distances:], fixedDistances[:])
	if plain := len(data)*8 + (len(data)/maxStored+1)*40; plain <= min(own, usual) {
		e.out.stored(data, last)
		return
	}
	e.out.reserve(min(own, usual)/8 + 16)
	final := uint64(0)
	if last {
		final = 1
	}
	if usual <= own {
		e.out.put(fixed<<1|final, 3)
		c.literals, c.distances = fixedLiterals, fixedDistances
	} else {
		e.out.put(dynamic<<1|final, 3)
		e.out.put(uint64(literals-257)|uint64(dists-1)<<5|uint64(words-4)<<10, 14)
		for _, s := range headerOrder[:words] {
			e.out.put(uint64(c.header[s].length), 3)
		}
		for _, l := range c.lengths {
			e.out.put(uint64(c.header[l.symbol].bits), uint(c.header[l.symbol].length))
			e.out.put(uint64(l.extra), uint(headerExtra[l.symbol]))
		}
	}
	e.out.tokens(c, tokens)
	e.out.put(uint64(c.literals[endOfBlock].bits), uint(c.literals[endOfBlock].length))
}

// total is how many bits the words of symbols take.
func total(counts []uint32, words []word) int {
	n := 0
	for s, c := range counts {
		n += int(c) * int(words[s].length)
	}
	return n
}

// describe packs the lengths of the words (section 3.2.7), and says how many literals
// and distances there are, how many words the header's own code has, and what all of
// that takes in bits.
func (c *codes) describe() (literals, dists, words, size int) {
	literals, dists = 286, 30
	for literals > 257 && c.literals[literals-1].length == 0 {
		literals--
	}
	for dists > 1 && c.distances[dists-1].length == 0 {
		dists--
	}
	var all [286 + 30]uint8
	for s := range literals {
		all[s] = c.literals[s].length
	}
	for s := range dists {
		all[literals+s] = c.distances[s].length
	}
	c.lengths = c.lengths[:0]
	var counts [19]uint32
	add := func(symbol, extra int) {
		c.lengths = append(c.lengths, headerSymbol{uint8(symbol), uint8(extra)})
		counts[symbol]++
	}
	for at, end := 0, literals+dists; at < end; {
		length, run := all[at], 1
		for at+run < end && all[at+run] == length {
			run++
		}
		at += run
		if length == 0 {
			for ; run >= 11; run -= min(run, 138) {
				add(18, min(run, 138)-11)
			}
			if run >= 3 {
				add(17, run-3)
				run = 0
			}
		} else if run > 3 {
			add(int(length), 0)
			for run--; run >= 3; run -= min(run, 6) {
				add(16, min(run, 6)-3)
			}
		}
		for range run {
			add(int(length), 0)
		}
	}
	assign(c.header[:], counts[:], longestLength)
	words = len(headerOrder)
	for words > 4 && c.header[headerOrder[words-1]].length == 0 {
		words--
	}
	size = 3 + 14 + 3*words
	for s, n := range counts {
		size += int(n) * int(c.header[s].length+headerExtra[s])
	}
	return literals, dists, words, size
}

// writer collects bits, the first in the lowest place (RFC 1951, section 3.1.1).
type writer struct {
	out   []byte
	bits  uint64
	count uint
}

func (w *writer) begin(out []byte) { *w = writer{out: out} }

// end fills up the last byte.
func (w *writer) end() []byte {
	out := w.out
	if w.count > 0 {
		out = append(out, byte(w.bits))
	}
	*w = writer{}
	return out
}

// reserve makes room for so many bytes.
func (w *writer) reserve(n int) {
	if cap(w.out)-len(w.out) < n {
		w.out = append(make([]byte, 0, 2*cap(w.out)+n), w.out...)
	}
}

// put adds up to 48 bits.
func (w *writer) put(v uint64, n uint) {
	w.bits |= v << w.count
	for w.count += n; w.count >= 8; w.count -= 8 {
		w.out = append(w.out, byte(w.bits))
		w.bits >>= 8
	}
}

// maxStored is how much a stored block holds (section 3.2.4).
const maxStored = 65535

// stored writes data as it is, in one block at least.
func (w *writer) stored(data []byte, last bool) {
	for first := true; first || len(data) > 0; first = false {
		n := min(len(data), maxStored)
		final := uint64(0)
		if last && n == len(data) {
			final = 1
		}
		w.put(stored<<1|final, 3)
		if w.count > 0 {
			w.put(0, 8-w.count)
		}
		w.out = binary.LittleEndian.AppendUint16(w.out, uint16(n))
		w.out = binary.LittleEndian.AppendUint16(w.out, ^uint16(n))
		w.out = append(w.out, data[:n]...)
		data = data[n:]
	}
}

// tokens writes them; there must be room for them and eight bytes.
func (w *writer) tokens(c *codes, tokens []token) {
	for s, of := range lengthSpans {
		word := c.literals[lengths+s]
		for n := range min(1<<of.extra, longest+1-int(of.base)) {
			m := &c.matches[int(of.base)+n]
			m.bits, m.count = uint32(word.bits)|uint32(n)<<word.length, word.length+of.extra
		}
	}
	out, at := w.out[:cap(w.out)], len(w.out)
	value, count := w.bits, w.count
	for _, t := range tokens {
		if t < isMatch {
			word := c.literals[t&0xff]
			value |= uint64(word.bits) << (count & 63)
			count += uint(word.length)
		} else {
			m := &c.matches[t.length()]
			value |= uint64(m.bits) << (count & 63)
			count += uint(m.count)
			d := t & (window - 1)
			s := distanceSymbol(d)
			word, of := c.distances[s&31], distanceSpans[s]
			value |= uint64(word.bits) << (count & 63)
			count += uint(word.length)
			value |= uint64(int(d)+1-int(of.base)) << (count & 63)
			count += uint(of.extra)
		}
		binary.LittleEndian.PutUint64(out[at:], value)
		at += int(count >> 3)
		value >>= count &^ 7 & 63
		count &= 7
	}
	w.out, w.bits, w.count = out[:at], value, count
}
