package inflate

import "math/bits"

const (
	longestCode = 15
	rootBits    = 10
)

// table decodes a canonical Huffman code (3.2.2). Codes of up to rootBits are
// looked up at once, longer ones counted out.
type table struct {
	root    [1 << rootBits]uint16 // symbol<<4 | length; 0: longer, or none
	counts  [longestCode + 1]int  // of codes by length
	symbols [maxLiterals + 2]uint16
	empty   bool
}

// fixedLengths are those of 3.2.6: of 288 literals and lengths, and of 32
// distances.
var fixedLengths = func() (lengths [288 + 32]byte) {
	for i := range lengths {
		switch {
		case i >= 288:
			lengths[i] = 5
		case i < 144, i >= 280:
			lengths[i] = 8
		case i < 256:
			lengths[i] = 9
		default:
			lengths[i] = 7
		}
	}
	return lengths
}()

var fixedLiterals, fixedDistances = func() (literals, distances table) {
	if literals.build(fixedLengths[:288]) != nil || distances.build(fixedLengths[288:]) != nil {
		panic("inflate: the fixed codes are complete")
	}
	return literals, distances
}()

// build makes the table of the code with these lengths. A code must use all of
// its space; only a single code of one bit may leave the other unused, and none
// at all is an error only when it is used.
func (t *table) build(lengths []byte) error {
	*t = table{}
	used := 0
	for _, n := range lengths {
		t.counts[n]++
		if n > 0 {
			used++
		}
	}
	t.counts[0] = 0
	t.empty = used == 0
	left := 1
	var offsets [longestCode + 2]int
	for n := 1; n <= longestCode; n++ {
		left = left<<1 - t.counts[n]
		if left < 0 {
			return corrupt("a code with more words than there are")
		}
		offsets[n+1] = offsets[n] + t.counts[n]
	}
	if left > 0 && !t.empty && (used != 1 || t.counts[1] != 1) {
		return corrupt("a code with unused words")
	}
	eachCode(lengths, func(symbol, n, word int) {
		t.symbols[offsets[n]] = uint16(symbol)
		offsets[n]++
		if n > rootBits {
			return
		}
		for i := word; i < len(t.root); i += 1 << n {
			t.root[i] = uint16(symbol<<4 | n)
		}
	})
	return nil
}

// eachCode goes through the symbols that have a code (3.2.2), with its length and
// its word as the input has it: the first bit lowest.
func eachCode(lengths []byte, visit func(symbol, length, word int)) {
	var counts, next [longestCode + 2]int
	for _, n := range lengths {
		counts[n]++
	}
	counts[0] = 0
	code := 0
	for n := 1; n <= longestCode; n++ {
		code = (code + counts[n-1]) << 1
		next[n] = code
	}
	for symbol, n := range lengths {
		if n == 0 {
			continue
		}
		word := bits.Reverse16(uint16(next[n])) >> (16 - n)
		next[n]++
		visit(symbol, int(n), int(word))
	}
}

// symbol decodes the next symbol.
func (d *Decoder) symbol(t *table) (int, error) {
	for {
		if e := t.root[d.bits&(1<<rootBits-1)]; e != 0 && uint(e&15) <= d.count {
			d.bits >>= e & 15
			d.count -= uint(e & 15)
			return int(e >> 4), nil
		}
		if d.count >= rootBits {
			break
		}
		if t.empty {
			return 0, corrupt("a symbol of an empty code")
		}
		if t.counts[1] == 1 && d.count > 0 && d.bits&1 == 1 && t.root[1] == 0 {
			return 0, corrupt("a word that the code does not use")
		}
		if err := d.more(); err != nil {
			return 0, err
		}
	}
	code, first, index := 0, 0, 0
	for n := uint(1); n <= longestCode; n++ {
		for d.count < n {
			if err := d.more(); err != nil {
				return 0, err
			}
		}
		code |= int(d.bits >> (n - 1) & 1)
		count := t.counts[n]
		if code-count < first {
			d.bits >>= n
			d.count -= n
			return int(t.symbols[index+code-first]), nil
		}
		index += count
		first = (first + count) << 1
		code <<= 1
	}
	return 0, corrupt("a word that the code does not use")
}
