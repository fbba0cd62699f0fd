package deflate

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// A found match; zero length: there is none.
type found struct{ length, distance int }

// A finder finds earlier places with the same bytes: by hashes of four bytes, in chains
// from the nearest to the farthest; and the last place for each hash of three.
//
// Places are counted on from one piece of data to the next, with a gap of a window in
// between, so that what is left of an earlier one is always too far away.
type finder struct {
	data  []byte
	first uint32 // the count at data[0]
	heads [1 << headBits]uint32
	short [1 << shortBits]uint32
	back  [window]uint16 // by count: how far the one before in its chain is
}

const (
	headBits  = 15
	shortBits = 13
	minChain  = 4
	tooFar    = window + 1

	// Where all matches are wanted, only so many candidates are looked at after a long
	// one: what is longer by little saves little.
	long      = 24
	afterLong = 12
)

func (f *finder) begin(data []byte) {
	f.data = data
	if f.first == 0 || uint64(f.first)+uint64(len(data))+window > math.MaxUint32 {
		clear(f.heads[:])
		clear(f.short[:])
		f.first = window + 1
	}
}

func (f *finder) end() {
	f.first += uint32(len(f.data)) + window
	f.data = nil
}

// chain and last are where a place is known by its first four and three bytes.
func (f *finder) chain(word uint32) *uint32 { return &f.heads[word*0x9e3779b1>>(32-headBits)] }
func (f *finder) last(word uint32) *uint32  { return &f.short[word<<8*0x9e3779b1>>(32-shortBits)] }

// pass makes the places from one up to another known.
func (f *finder) pass(from, to int) {
	to = min(to, len(f.data)-minChain+1)
	if from >= to {
		return
	}
	count := f.first + uint32(from)
	data := f.data[from : to+minChain-1]
	for len(data) >= minChain {
		word := binary.LittleEndian.Uint32(data)
		head := f.chain(word)
		f.back[count%window] = uint16(min(count-*head, tooFar))
		*head = count
		*f.last(word) = count
		count++
		data = data[1:]
	}
}

// find makes a place known and looks at so many candidates there for a match that is
// longer than least. Each one that is longer than those before it is added to all, if there
// is one.
func (f *finder) find(i, least, candidates, enough int, all *[]run) (m found) {
	data, here := f.data, f.data[i:]
	if len(here) < minChain {
		return found{}
	}
	word := binary.LittleEndian.Uint32(here)
	count := f.first + uint32(i)
	last, head := f.last(word), f.chain(word)
	near, away := i-int(min(count-*last, tooFar)), min(count-*head, tooFar)
	*last, *head = count, count
	f.back[count%window] = uint16(away)

	lowest := max(0, i-window)
	if least < shortest && near >= lowest && (binary.LittleEndian.Uint32(data[near:])^word)<<8 == 0 {
		m = found{shortest, i - near}
		if all != nil {
			*all = append(*all, run{int32(i), int32(i + shortest), int32(m.distance)})
		}
	}
	limit := min(longest, len(here))
	best := max(least, minChain-1)
	if best >= limit {
		return m
	}
	tail := binary.LittleEndian.Uint32(here[best-3:])
	for at := i - int(away); at >= lowest && candidates > 0; candidates-- {
		if binary.LittleEndian.Uint32(data[at+best-3:]) == tail && binary.LittleEndian.Uint32(data[at:]) == word {
			if n := common(data[at:], here[:limit]); n > best {
				m, best = found{n, i - at}, n
				if all != nil {
					*all = append(*all, run{int32(i), int32(i + n), int32(m.distance)})
				}
				if n >= enough || n == limit {
					break
				}
				tail = binary.LittleEndian.Uint32(here[best-3:])
				if all != nil && n >= long {
					candidates = min(candidates, afterLong)
				}
			}
		}
		at -= int(f.back[(f.first+uint32(at))%window])
	}
	return m
}

// common is how many bytes are the same at the start of both, of which four are, and the
// first is not shorter.
func common(a, b []byte) int {
	n := minChain
	for n+8 <= len(b) {
		if x := binary.LittleEndian.Uint64(a[n:]) ^ binary.LittleEndian.Uint64(b[n:]); x != 0 {
			return n + bits.TrailingZeros64(x)/8
		}
		n += 8
	}
	for n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}
