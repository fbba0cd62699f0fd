package deflate

import (
	"math/bits"
	"slices"
)

// The longest code words of the alphabets (RFC 1951, section 3.2.7). Those of literals
// are held shorter: then four of them fit into one store.
const (
	longestLiteral  = 14
	longestDistance = 15
	longestLength   = 7
)

// A word is a code word, its bits reversed as they are sent (section 3.1.1), and its
// length.
type word struct {
	bits   uint16
	length uint8
}

// assign gives each symbol that occurs a code word of the least total length, at most
// limit bits long (section 3.2.2). Fewer than two symbols get two words all the same:
// a decoder need not take a code of one.
func assign(words []word, counts []uint32, limit int) {
	var sorted [distances]uint32 // count and symbol
	n := 0
	for s, c := range counts {
		words[s] = word{}
		if c > 0 {
			sorted[n] = c<<9 | uint32(s)
			n++
		}
	}
	for s := 0; n < 2; s++ {
		if counts[s] == 0 {
			sorted[n] = uint32(s)
			n++
		}
	}
	slices.Sort(sorted[:n])
	var perLength [distances]int
	optimal(sorted[:n], &perLength)
	shorten(&perLength, n, limit)
	at := 0
	for length := limit; length > 0; length-- {
		for range perLength[length] {
			words[sorted[at]&0x1ff].length = uint8(length)
			at++
		}
	}
	number(words)
}

// number gives words their bits by their lengths (section 3.2.2).
func number(words []word) {
	var next [17]uint16
	for _, w := range words {
		next[w.length+1]++
	}
	next[1] = 0 // words of no length
	for length := 1; length < 16; length++ {
		next[length+1] = (next[length] + next[length+1]) << 1
	}
	for s := range words {
		if w := &words[s]; w.length > 0 {
			w.bits = bits.Reverse16(next[w.length]) >> (16 - w.length)
			next[w.length]++
		}
	}
}

// optimal counts the lengths of the words of a code for sorted counts: the two smallest
// are joined to one again and again, in place (Moffat and Katajainen, In-Place
// Calculation of Minimum-Redundancy Codes, 1995).
func optimal(sorted []uint32, perLength *[distances]int) {
	var tree [distances]uint32
	n := len(sorted)
	for i, s := range sorted {
		tree[i] = s >> 9
	}
	leaf, root := 0, 0
	smallest := func(next int) uint32 {
		if leaf >= n || root < next && tree[root] < tree[leaf] {
			weight := tree[root]
			tree[root] = uint32(next) // its parent
			root++
			return weight
		}
		leaf++
		return tree[leaf-1]
	}
	for next := range n - 1 {
		first := smallest(next)
		tree[next] = first + smallest(next)
	}
	tree[n-2] = 0
	for i := n - 3; i >= 0; i-- {
		tree[i] = tree[tree[i]] + 1 // its depth
	}
	inner, free, at := 0, 1, n-2
	for depth := uint32(0); free > 0; depth++ {
		for inner = 0; at >= 0 && tree[at] == depth; at-- {
			inner++
		}
		perLength[depth] += free - inner
		free = 2 * inner
	}
}

// shorten takes words that are too long to the limit, and makes up for it by splitting
// the longest of the others.
func shorten(perLength *[distances]int, n, limit int) {
	for length := limit + 1; length < n; length++ {
		perLength[limit] += perLength[length]
		perLength[length] = 0
	}
	room := 0
	for length := 1; length <= limit; length++ {
		room += perLength[length] << (limit - length)
	}
	for ; room > 1<<limit; room-- {
		length := limit - 1
		for perLength[length] == 0 {
			length--
		}
		perLength[length]--
		perLength[length+1] += 2
		perLength[limit]--
	}
}
