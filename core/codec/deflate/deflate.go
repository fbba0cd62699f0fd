// Package deflate compresses data to the format of RFC 1951. It is responsible for
// what is small: which matches are taken, where blocks end, and how their codes are
// made. Streams, and blocks on several cores, are a matter of the package above it.
package deflate

// An Encoder compresses pieces of data, each for itself. It holds its tables, so that
// it allocates nothing once they have grown to what a piece needs. What it makes
// depends on the level and on the data alone, not on what it made before. It is not
// safe for use by several goroutines at once.
type Encoder struct {
	effort
	finder finder
	parsed parsed
	blocks []*block
	saved  []int // by block: what joining it to the next one saves
	prices prices
	search search
	codes  codes
	out    writer
}

// effort is how hard a level tries.
type effort struct {
	candidates int // looked at for each match
	enough     int // of the length of a match, to look at no more of them
	ahead      int // one in so many of them is looked at for a better match a byte further on
	// A match that is shorter waits for a better one a byte further on; one that is
	// shorter than the second, also two bytes.
	waits [2]int
	all   bool // all ways through the data are weighed against each other
}

var efforts = [...]effort{
	4: {candidates: 16, enough: 64, ahead: 8, waits: [2]int{16, 0}},
	5: {candidates: 24, enough: 64, ahead: 6, waits: [2]int{24, 0}},
	6: {candidates: 36, enough: 128, ahead: 4, waits: [2]int{32, 8}},
	7: {candidates: 48, enough: 192, ahead: 3, waits: [2]int{48, 16}},
	8: {candidates: 64, enough: longest, ahead: 2, waits: [2]int{longest, 32}},
	9: {candidates: 40, enough: longest, ahead: 2, all: true},
}

// The levels that it has.
const (
	Lowest  = 4
	Highest = 9
)

// New returns an encoder of a level from Lowest to Highest.
func New(level int) *Encoder {
	return &Encoder{effort: efforts[level]}
}

// Encode appends data[start:] to out, compressed. What stands before start, at most 32
// KiB of it, is what the decoder has seen already; what is compressed may have up to 4
// MiB. If last is set, the stream ends with it; else it ends at a whole byte, so that more
// can follow (an empty stored block, section 3.2.4).
func (e *Encoder) Encode(out, data []byte, start int, last bool) []byte {
	data = data[max(0, start-window):]
	start = min(start, window)
	e.finder.begin(data)
	e.finder.pass(0, start)
	e.parsed.reset(len(data) - start)
	if e.all {
		e.weigh(data, start)
	} else {
		e.lazy(data, start)
	}
	e.finder.end()
	e.split()
	e.out.begin(out)
	from, token := start, 0
	for i, b := range e.blocks {
		e.write(b, e.parsed.tokens[token:token+b.tokens], data[from:from+b.bytes], last && i == len(e.blocks)-1)
		from, token = from+b.bytes, token+b.tokens
	}
	if !last {
		e.out.stored(nil, false)
	}
	return e.out.end()
}
