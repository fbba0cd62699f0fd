package deflate

import (
	"cmp"
	"math"
	"slices"
)

// search is what weighing all ways through the data needs.
type search struct {
	runs  []run // by from
	here  here
	steps [stretch + 1]step
}

// A run is a match that can start anywhere from a position on, and ends at another, or
// before it.
type run struct{ from, to, distance int32 }

// A step is the last token of a way to a position, with what the way costs in the upper
// half: the smaller one is the better one.
type step uint64

func cost(price uint16, t token) step { return step(price)<<32 | step(t) }

// stretch is how much of the data is weighed at once, by the prices of what came before.
const stretch = 16 << 10

// anchored is from which length of a match on its inside is not searched everywhere:
// only at the first and last places, and what is found there is followed backwards.
const anchored = 12

// weigh looks for matches everywhere, and takes the way through them that costs least.
func (e *Encoder) weigh(data []byte, at int) {
	s := &e.search
	e.prices.begin(data[at:])
	s.here, s.runs = here{}, s.runs[:0]
	for looked, first := at, true; at < len(data); first = false {
		end := min(at+stretch, len(data))
		for looked < end {
			looked = e.look(looked)
		}
		rest := e.spread(data[:end], at)
		e.follow(data[:end], at)
		if first {
			// Nothing was known of the prices: once more, with those of this way.
			e.prices.learn(e.parsed.piece)
			e.parsed.reset(cap(e.parsed.tokens))
			s.here = here{}
			rest = e.spread(data[:end], at)
			e.follow(data[:end], at)
		}
		s.runs = s.runs[:copy(s.runs, rest)]
		at = end
	}
}

// look collects the runs from a place on, and returns the place from where to go on.
func (e *Encoder) look(i int) int {
	f, s := &e.finder, &e.search
	first := len(s.runs)
	length := e.around(i, i, e.candidates)
	if length < anchored {
		return i + 1
	}
	end := i + length
	if length == longest {
		f.pass(i+1, end)
		return end
	}
	e.around(i+1, i+1, e.candidates/e.ahead)
	e.around(i+2, i+2, e.candidates/e.ahead/2)
	f.pass(i+3, end-3)
	e.around(end-3, i+1, e.candidates/e.ahead)
	f.pass(end-2, end-1)
	e.around(end-1, i+1, e.candidates/e.ahead)
	slices.SortStableFunc(s.runs[first:], func(a, b run) int { return cmp.Compare(a.from, b.from) })
	return end
}

// around collects the matches at a place, extended backwards, not beyond from. It
// returns the length of the longest at the place.
func (e *Encoder) around(at, from, candidates int) int {
	f, s := &e.finder, &e.search
	first := len(s.runs)
	m := f.find(at, 0, candidates, e.enough, &s.runs)
	for k := first; k < len(s.runs) && from < at; k++ {
		r := &s.runs[k]
		for int(r.from) > from && r.to-r.from < longest && r.from > r.distance && f.data[r.from-1] == f.data[r.from-1-r.distance] {
			r.from--
		}
	}
	return m.length
}

// here are the runs that matches at a position can be taken from: shortest and nearest
// first, none of them both shorter and farther than another.
type here struct {
	runs  [4]begun
	count int
}

// A begun run has the price of its distance.
type begun struct {
	from, to int
	distance int32
	step     step
}

// add puts in a run, instead of those that it is better than. If there is no room, the
// shortest gives way.
func (h *here) add(r begun) {
	at := 0
	for at < h.count && h.runs[at].to < r.to {
		at++
	}
	if at < h.count && h.runs[at].distance <= r.distance {
		return
	}
	to := at // the first one that stays behind it
	if to < h.count && h.runs[to].to == r.to {
		to++
	}
	from := at // those in front from here on are worse
	for from > 0 && h.runs[from-1].distance >= r.distance {
		from--
	}
	if from == to && h.count == len(h.runs) {
		if from > 0 {
			copy(h.runs[:from-1], h.runs[1:from])
			h.runs[from-1] = r
		}
		return
	}
	copy(h.runs[from+1:], h.runs[to:h.count])
	h.runs[from] = r
	h.count += 1 - (to - from)
}

// leave takes away those that no match can be taken from any more.
func (h *here) leave(at int) {
	gone := 0
	for gone < h.count && h.runs[gone].to < at+shortest {
		gone++
	}
	if gone > 0 {
		h.count = copy(h.runs[:], h.runs[gone:h.count])
	}
}

// spread finds the cheapest step to each position. Of the lengths of a match, only the
// longest of each symbol are tried, and only those that no nearer match has; where a
// match could have started before, only its end. It returns the runs that start behind.
func (e *Encoder) spread(data []byte, start int) (rest []run) {
	s, p := &e.search, &e.prices
	size := len(data) - start
	steps := s.steps[:size+1]
	for i := range steps {
		steps[i] = math.MaxUint64
	}
	steps[0] = 0
	runs := s.runs
	for i := range size {
		at := start + i
		for len(runs) > 0 && int(runs[0].from) <= at {
			r := runs[0]
			runs = runs[1:]
			distance := token(r.distance - 1)
			s.here.add(begun{int(r.from), int(r.to), r.distance, cost(p.distances[distanceSymbol(distance)], isMatch|distance)})
		}
		s.here.leave(at)
		way := steps[i] &^ math.MaxUint32
		steps[i+1] = min(steps[i+1], way+p.steps[data[at]])
		ahead := steps[i:]
		covered := shortest - 1
		for k := range s.here.count {
			r := &s.here.runs[k]
			length := min(r.to-at, len(ahead)-1)
			if at > r.from {
				covered = max(covered, length-1)
			}
			from := way + r.step
			for n := length; n > covered; n = int(below[n]) {
				ahead[n] = min(ahead[n], from+p.matches[n])
			}
			covered = length
		}
	}
	return runs
}

// follow makes tokens of the cheapest way.
func (e *Encoder) follow(data []byte, start int) {
	steps := &e.search.steps
	// Backwards, each step is put where it starts.
	for at, next := len(data)-start, token(0); ; {
		t := token(steps[at])
		steps[at] = step(next)
		if at == 0 {
			break
		}
		next = t
		at -= t.bytes()
	}
	for at := start; at < len(data); {
		t := token(steps[at-start])
		e.add(t)
		at += t.bytes()
	}
}
