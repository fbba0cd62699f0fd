package inflate

import "math/bits"

// A table decodes a canonical Huffman code (RFC 1951, section 3.2.2): it is
// indexed by the next bits of the input. Codes of up to root bits are found at
// once; the entry of the first root bits of longer ones points to a table for
// the others, further back in the same array. An entry is one word:
//
//	bits 0–5    how many bits of the input it uses: those of the code, and extra ones
//	bits 8–11   those of the code; of a pointer, how many its table is indexed by
//	bits 12–15  its kind
//	bits 16–31  a literal, the base of a length or distance, or the start of a table
//
// Where a bit count is lowered by all of an entry, its low six bits are right,
// and the others never matter.
const (
	codeShift  = 8
	valueShift = 16
	oneBit     = 1<<codeShift + 1 // of a code

	kindLiteral = 1 << 12
	kindOdd     = 2 << 12 // all but literals, and lengths and distances as in deflate
	kindMask    = 15 << 12
	kindNone    = kindOdd
	kindPointer = kindOdd | 1<<14
	kindEnd     = kindOdd | 2<<14
	kindLong    = kindOdd | 3<<14 // a length that may be longer than the fast loop has room for
	kindAgain   = kindLong        // among code lengths: the one before, so many times
)

// The arrays are larger than any code needs (2,342 and 402 entries), and powers
// of two, so that an index under a mask needs no check.
const (
	literalRoot  = 11
	distanceRoot = 8
	lengthRoot   = 7

	literalSize  = 1 << 12
	distanceSize = 1 << 9

	longestCode = 15
)

// tables are those of one block.
type tables struct {
	literals  [literalSize]uint32
	distances [distanceSize]uint32
}

// build makes the table of the code with these lengths of symbols, whose entries
// lack only their codes. A code must use all of its space; only a single code of
// one bit may leave the other unused, and none at all is an error only when it
// is used.
func build(table []uint32, root int, lengths []byte, symbols []uint32) error {
	var counts, next [longestCode + 1]int
	for _, n := range lengths {
		counts[n&longestCode]++
	}
	left, used := 1, 0
	for n := 1; n <= longestCode; n++ {
		next[n] = used
		used += counts[n]
		left = left<<1 - counts[n]
		if left < 0 {
			return corrupt("a code with more words than there are")
		}
	}
	var sorted [288]uint16
	for symbol, n := range lengths {
		if n > 0 {
			sorted[next[n&longestCode]] = uint16(symbol)
			next[n&longestCode]++
		}
	}
	if left > 0 {
		return buildSingle(table[:1<<root], used, counts[1], symbols[sorted[0]])
	}
	// In the order of the words, all entries of shorter ones repeat when the
	// table becomes one bit wider.
	word, at := 0, 0
	for n := 1; n <= root; n++ {
		copy(table[1<<(n-1):1<<n], table[:1<<(n-1)])
		for _, symbol := range sorted[at : at+counts[n]] {
			table[word] = symbols[symbol] + uint32(n)*oneBit
			word = following(word, n)
		}
		at += counts[n]
	}
	start, width, prefix := 1<<root, 0, -1
	for n := root + 1; at < used; n++ {
		for ; counts[n] > 0; counts[n]-- {
			if first := word & (1<<root - 1); first != prefix {
				if prefix >= 0 {
					start += 1 << width
				}
				prefix = first
				width = n - root
				for words := counts[n]; words < 1<<width; words = words<<1 + counts[root+width] {
					width++
				}
				table[prefix] = kindPointer | uint32(start)<<valueShift | uint32(width)<<codeShift | uint32(root)
			}
			entry := symbols[sorted[at]] + uint32(n-root)*oneBit
			for i := word >> root; i < 1<<width; i += 1 << (n - root) {
				table[start+i] = entry
			}
			word = following(word, n)
			at++
		}
	}
	return nil
}

// buildSingle makes the table of the codes that may leave words unused.
func buildSingle(table []uint32, used, ofOneBit int, entry uint32) error {
	if used > 1 || used != ofOneBit {
		return corrupt("a code with unused words")
	}
	for i := range table {
		table[i] = kindNone | uint32(used)*oneBit
		if used == 1 && i&1 == 0 {
			table[i] = entry + oneBit
		}
	}
	return nil
}

// following is the next word of n bits; the input has the first bit lowest. Behind
// the last one comes 0.
func following(word, n int) int {
	zeros := word ^ (1<<n - 1)
	if zeros == 0 {
		return 0
	}
	top := 1 << (bits.Len(uint(zeros)) - 1)
	return word&(top-1) | top
}
