package blob

import (
	"io"
	"sort"
)

// Without is a blob without the bytes of some ranges, which are in order and apart.
func Without(b Blob, gaps []Range) Blob {
	w := &without{Blob: b}
	at := int64(0)
	for _, gap := range append(gaps, Range{b.Size(), b.Size()}) {
		if gap.From > at {
			w.pieces = append(w.pieces, Range{at, gap.From})
			w.starts = append(w.starts, w.size)
			w.size += gap.From - at
		}
		at = gap.To
	}
	return w
}

type without struct {
	Blob
	pieces []Range
	starts []int64 // of each piece, in what is left
	size   int64
}

func (w *without) Size() int64 { return w.size }

func (w *without) ReadAt(p []byte, at int64) (n int, err error) {
	i := sort.Search(len(w.starts), func(i int) bool { return w.starts[i] > at }) - 1
	for ; n < len(p) && i < len(w.pieces) && at < w.size; i++ {
		from := w.pieces[i].From + at - w.starts[i]
		piece := p[n:min(int64(len(p)), int64(n)+w.pieces[i].To-from)]
		m, err := w.Blob.ReadAt(piece, from)
		n, at = n+m, at+int64(m)
		if m < len(piece) {
			return n, err
		}
	}
	if n < len(p) {
		err = io.EOF
	}
	return n, err
}

// Foresee is that of Foreseer.
func (w *without) Foresee(ranges []Range) {
	var inside []Range
	for _, r := range ranges {
		for i, piece := range w.pieces {
			from := max(r.From, w.starts[i]) + piece.From - w.starts[i]
			if to := min(r.To-w.starts[i]+piece.From, piece.To); from < to {
				inside = append(inside, Range{from, to})
			}
		}
	}
	Foresee(w.Blob, inside...)
}
