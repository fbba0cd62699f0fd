package inflate

import "sync"

// codes is what deflate and deflate64 have apart: entries of all symbols, without
// their codes, the tables of the fixed codes (3.2.6), and how far a distance
// reaches.
type codes struct {
	literals     [288]uint32
	distances    [32]uint32
	maxDistances int
	reach        int
	fixed        tables
}

const (
	endOfBlock  = 256
	maxLiterals = 286
)

// They are made when the first stream needs them.
var (
	deflate   = sync.OnceValue(func() *codes { return newCodes(false) })
	deflate64 = sync.OnceValue(func() *codes { return newCodes(true) })
)

// newCodes makes the entries of 3.2.5. Deflate64 has another last length, and two
// more distances.
func newCodes(wide bool) *codes {
	c := &codes{maxDistances: 30, reach: 32 << 10}
	if wide {
		c.maxDistances, c.reach = 32, 64<<10
	}
	for i := range c.literals {
		c.literals[i] = kindNone
		if i < endOfBlock {
			c.literals[i] = kindLiteral | uint32(i)<<valueShift
		}
	}
	c.literals[endOfBlock] = kindEnd
	base := 3
	for i := range 28 {
		extra := max(i/4-1, 0)
		c.literals[endOfBlock+1+i] = uint32(base<<valueShift | extra)
		base += 1 << extra
	}
	c.literals[maxLiterals-1] = 258 << valueShift
	if wide {
		c.literals[maxLiterals-1] = kindLong | 3<<valueShift | 16
	}
	base = 1
	for i := range c.distances {
		c.distances[i] = kindNone
		if i < c.maxDistances {
			extra := max(i/2-1, 0)
			c.distances[i] = uint32(base<<valueShift | extra)
			base += 1 << extra
		}
	}
	var lengths [288 + 32]byte
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
	if build(c.fixed.literals[:], literalRoot, lengths[:288], c.literals[:]) != nil ||
		build(c.fixed.distances[:], distanceRoot, lengths[288:], c.distances[:]) != nil {
		panic("inflate: the fixed codes are complete")
	}
	return c
}

// lengthEntries are those of the code of the code lengths (3.2.7).
var lengthEntries = func() (entries [19]uint32) {
	for i := range 16 {
		entries[i] = kindLiteral | uint32(i)<<valueShift
	}
	entries[16] = kindAgain | 3<<valueShift | 2
	entries[17] = 3<<valueShift | 3
	entries[18] = 11<<valueShift | 7
	return entries
}()
