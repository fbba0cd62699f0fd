package lzma

// states are how many the decoder has: what the last few things were.
const (
	states       = 12
	firstMatched = 7 // states from this one on come after a match

	lowLengths  = 8
	midLengths  = 8
	highLengths = 256
	leastMatch  = 2

	slots       = 64 // of distances
	lengthKinds = 4  // that choose among the models of slots
	firstDirect = 4  // slot: from here on, distances have bits of their own
	endDirect   = 14 // slot: from here on, most of them are even
	alignBits   = 4
)

// lengths is the model of the length of a match.
type lengths struct {
	choice, choice2 uint16
	low, mid        [16][lowLengths]uint16 // by position
	high            [highLengths]uint16
}

// model has all probabilities.
type model struct {
	isMatch    [states << 4]uint16 // by state and position
	isRep      [states]uint16
	isRep0     [states]uint16
	isRep1     [states]uint16
	isRep2     [states]uint16
	isRep0Long [states << 4]uint16
	slot       [lengthKinds][slots]uint16
	special    [1 << 7]uint16 // bits of distances below 128, by their start
	align      [1 << alignBits]uint16
	match, rep lengths
	literal    []uint16 // 0x300 for each context
}

const literalSize = 0x300

// reset makes all probabilities even, for so many contexts of literals.
func (m *model) reset(contexts int) {
	literal := m.literal
	if n := contexts * literalSize; cap(literal) < n {
		literal = make([]uint16, n)
	} else {
		literal = literal[:n]
	}
	for _, p := range [][]uint16{literal, m.isMatch[:], m.isRep[:], m.isRep0[:], m.isRep1[:], m.isRep2[:], m.isRep0Long[:], m.special[:], m.align[:]} {
		fill(p)
	}
	for i := range m.slot {
		fill(m.slot[i][:])
	}
	for _, l := range []*lengths{&m.match, &m.rep} {
		l.choice, l.choice2 = even, even
		for i := range l.low {
			fill(l.low[i][:])
			fill(l.mid[i][:])
		}
		fill(l.high[:])
	}
	m.literal = literal
}

func fill(p []uint16) {
	for i := range p {
		p[i] = even
	}
}
