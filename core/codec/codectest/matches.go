package codectest

import (
	"cmp"
	"math/bits"
	"slices"
)

// match is a piece of data: a byte, or with a length what stands a distance before.
type match struct {
	length, distance int
	literal          byte
}

// matches finds for each place the last one that had the same three bytes. Before the data,
// zeros can be referred to.
func matches(data []byte, window, longest int) (list []match) {
	type three [3]byte
	last := map[three]int{{}: -1}
	at := 0
	note := func() {
		if at+3 <= len(data) {
			last[three(data[at:])] = at
		}
		at++
	}
	byteAt := func(i int) byte {
		if i < 0 {
			return 0
		}
		return data[i]
	}
	for at < len(data) {
		m := match{literal: data[at]}
		if at+3 <= len(data) {
			from, known := last[three(data[at:])]
			if from < 0 {
				known = byteAt(from+1)|byteAt(from+2) == 0
			}
			if distance := at - from; known && distance <= window {
				n := 0
				for n < longest && at+n < len(data) && byteAt(from+n) == data[at+n] {
					n++
				}
				if n >= 3 {
					m = match{length: n, distance: distance}
				}
			}
		}
		list = append(list, m)
		for range max(1, m.length) {
			note()
		}
	}
	return list
}

// Reduce packs by section 5.2 of the .ZIP File Format Specification.
func Reduce(data []byte, factor int) []byte {
	const escape = 144
	lengthBits := 8 - factor
	mask := 1<<lengthBits - 1
	var text []byte
	literal := func(c byte) {
		if text = append(text, c); c == escape {
			text = append(text, 0)
		}
	}
	for _, m := range matches(data, 1<<(factor+8), mask+255+3) {
		n := m.length - 3
		high := (m.distance - 1) >> 8 << lengthBits
		if m.length == 0 || high|n == 0 { // which would stand for the escape itself
			for _, c := range data[:max(1, m.length)] {
				literal(c)
			}
		} else {
			text = append(text, escape, byte(high|min(n, mask)))
			if n >= mask {
				text = append(text, byte(n-mask))
			}
			text = append(text, byte(m.distance-1))
		}
		data = data[max(1, m.length):]
	}
	return withFollowers(text)
}

// withFollowers writes the lists of what follows each byte most often, and text by them.
func withFollowers(text []byte) []byte {
	var counts [256][256]int
	before := byte(0)
	for _, c := range text {
		counts[before][c]++
		before = c
	}
	w := &writer{}
	var lists [256][]int
	for c := 255; c >= 0; c-- {
		for next, n := range counts[c] {
			if n > 1 {
				lists[c] = append(lists[c], next)
			}
		}
		slices.SortStableFunc(lists[c], func(a, b int) int { return cmp.Compare(counts[c][b], counts[c][a]) })
		lists[c] = lists[c][:min(len(lists[c]), 32)]
		w.put(len(lists[c]), 6)
		for _, next := range lists[c] {
			w.put(next, 8)
		}
	}
	before = 0
	for _, c := range text {
		list := lists[before]
		number := slices.Index(list, int(c))
		switch {
		case len(list) == 0:
			w.put(int(c), 8)
		case number < 0:
			w.put(1, 1)
			w.put(int(c), 8)
		default:
			w.put(0, 1)
			w.put(number, max(1, uint(bits.Len(uint(len(list)-1)))))
		}
		before = c
	}
	return w.bytes()
}

// Implode packs by section 5.3 of the .ZIP File Format Specification, with a window of 8 KiB or
// 4, and codes for literals or not.
func Implode(data []byte, large, literals bool) []byte {
	lowBits, least := uint(6), 2
	if large {
		lowBits = 7
	}
	if literals {
		least = 3
	}
	list := matches(data, 64<<lowBits, 63+255+least)
	byLiteral, byLength, byDistance := make([]int, 256), make([]int, 64), make([]int, 64)
	for _, m := range list {
		if m.length == 0 {
			byLiteral[m.literal]++
		} else {
			byLength[min(63, m.length-least)]++
			byDistance[(m.distance-1)>>lowBits]++
		}
	}
	w := &writer{}
	var literal, length, distance []code
	if literals {
		literal = putCodes(w, byLiteral)
	}
	length, distance = putCodes(w, byLength), putCodes(w, byDistance)
	for _, m := range list {
		if m.length == 0 {
			w.put(1, 1)
			if literals {
				literal[m.literal].put(w)
			} else {
				w.put(int(m.literal), 8)
			}
			continue
		}
		w.put(0, 1)
		w.put((m.distance-1)&(1<<lowBits-1), lowBits)
		distance[(m.distance-1)>>lowBits].put(w)
		n := m.length - least
		length[min(63, n)].put(w)
		if n >= 63 {
			w.put(n-63, 8)
		}
	}
	return w.bytes()
}

type code struct {
	bits   uint16 // the first one highest
	length uint
}

func (c code) put(w *writer) { w.put(int(bits.Reverse16(c.bits)), c.length) }

// putCodes writes the lengths of codes for values of these frequencies, and returns the codes.
func putCodes(w *writer, frequency []int) []code {
	codes := make([]code, len(frequency))
	for scale := 1; ; scale *= 2 { // until no code is too long
		for i, n := range lengths(frequency, scale) {
			codes[i].length = n
		}
		if !slices.ContainsFunc(codes, func(c code) bool { return c.length > 16 }) {
			break
		}
	}
	var runs []byte
	for i := 0; i < len(codes); {
		n := 1
		for n < 16 && i+n < len(codes) && codes[i+n].length == codes[i].length {
			n++
		}
		runs = append(runs, byte(n-1)<<4|byte(codes[i].length-1))
		i += n
	}
	w.put(len(runs)-1, 8)
	for _, run := range runs {
		w.put(int(run), 8)
	}
	// The longest codes come first, and of these the one of the highest value.
	next := 0
	for length := uint(16); length > 0; length-- {
		for i := range slices.Backward(codes) {
			if codes[i].length == length {
				codes[i].bits = uint16(next)
				next += 1 << (16 - length)
			}
		}
	}
	return codes
}

// lengths are those of the codes that fit frequencies best, each of them at least one.
func lengths(frequency []int, scale int) []uint {
	type tree struct {
		weight int
		leaves []int
	}
	trees, depth := make([]tree, len(frequency)), make([]uint, len(frequency))
	for i, n := range frequency {
		trees[i] = tree{n/scale + 1, []int{i}}
	}
	for len(trees) > 1 {
		slices.SortStableFunc(trees, func(a, b tree) int { return cmp.Compare(a.weight, b.weight) })
		both := tree{trees[0].weight + trees[1].weight, slices.Concat(trees[0].leaves, trees[1].leaves)}
		for _, leaf := range both.leaves {
			depth[leaf]++
		}
		trees = append(trees[2:], both)
	}
	return depth
}
