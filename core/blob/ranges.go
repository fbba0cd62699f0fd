package blob

import (
	"cmp"
	"io"
	"iter"
	"slices"
)

// A Range is the bytes from From up to To.
type Range struct{ From, To int64 }

// A Foreseer is read faster if it knows early which of its bytes will be.
type Foreseer interface {
	// Foresee says which ranges will be read, about in this order. Nothing has to
	// come of it.
	Foresee(ranges []Range)
}

// Foresee says to whoever cares what will be read from r.
func Foresee(r io.ReaderAt, ranges ...Range) {
	if f, ok := r.(Foreseer); ok && len(ranges) > 0 {
		f.Foresee(ranges)
	}
}

// cut takes from ranges as many as one request of so many bytes is for.
func cut(ranges []Range, room int64) (batch, left []Range) {
	for len(ranges) > 0 && len(batch) < mostRanges && room > 0 {
		want := ranges[0]
		if last := len(batch) - 1; last >= 0 && want.From <= batch[last].To {
			break // a request goes forwards
		}
		if want.To-want.From > room {
			if len(batch) > 0 && want.To-want.From <= segment {
				break // the range fits into a request of its own
			}
			batch = append(batch, Range{want.From, want.From + room})
			return batch, append([]Range{{want.From + room, want.To}}, ranges[1:]...)
		}
		batch, ranges = append(batch, want), ranges[1:]
		room -= want.To - want.From
	}
	return batch, ranges
}

// merge puts ranges into order, and joins those that touch.
func merge(ranges []Range) []Range {
	slices.SortFunc(ranges, func(a, b Range) int { return cmp.Compare(a.From, b.From) })
	var merged []Range
	for _, r := range ranges {
		if last := len(merged) - 1; last >= 0 && r.From <= merged[last].To {
			merged[last].To = max(merged[last].To, r.To)
		} else if r.From < r.To {
			merged = append(merged, r)
		}
	}
	return merged
}

// subtract returns what is in ranges and not in others, which are in order.
func subtract(ranges, others []Range) []Range {
	var left []Range
	for _, r := range ranges {
		for _, o := range others {
			if o.To <= r.From || o.From >= r.To {
				continue
			}
			if r.From < o.From {
				left = append(left, Range{r.From, o.From})
			}
			r.From = o.To
		}
		if r.From < r.To {
			left = append(left, r)
		}
	}
	return left
}

// Overlapping finds two ranges that overlap without starting at the same place, by
// their keys. The same bytes may well be used twice, but then from the first on.
func Overlapping(ranges iter.Seq2[int, Range]) (a, b int, found bool) {
	type keyed struct {
		Range
		key int
	}
	var all []keyed
	for key, r := range ranges {
		if r.From != Hole && r.From < r.To {
			all = append(all, keyed{r, key})
		}
	}
	slices.SortFunc(all, func(x, y keyed) int { return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.To, y.To)) })
	end := 0 // the one that reaches furthest
	for n := 1; n < len(all); n++ {
		x, y := all[end], all[n]
		if y.From < x.To && x.From != y.From {
			return x.key, y.key, true
		}
		if y.To > x.To {
			end = n
		}
	}
	return 0, 0, false
}
