package bound

import (
	"context"
	"hash"
	"io"
	"sync/atomic"

	"widecrate/core/archive"
)

// A Meter is what the data of an entry passes on its way, until Context is cancelled: the one
// place where it is checked against bounds, counted and summed up. Zero values do none of that.
type Meter struct {
	Context context.Context
	Budget  *Budget
	Passed  func(bytes int64) error // gets what passed, and ends it with an error
	Total   *atomic.Int64           // gets the bytes that passed
	Sums    []hash.Hash             // of the data
}

// pass takes account of data, or of so many zeros.
func (m *Meter) pass(bytes int64) error {
	if m.Context != nil {
		if err := m.Context.Err(); err != nil {
			return err
		}
	}
	if m.Budget != nil {
		if err := m.Budget.Spend(bytes); err != nil {
			return err
		}
	}
	if m.Total != nil {
		m.Total.Add(bytes)
	}
	if m.Passed != nil {
		return m.Passed(bytes)
	}
	return nil
}

// Reader reads data through the meter.
func (m Meter) Reader(data io.Reader) io.Reader { return &meteredReader{m, data} }

type meteredReader struct {
	Meter
	data io.Reader
}

func (r *meteredReader) Read(p []byte) (int, error) {
	if r.Context != nil && r.Context.Err() != nil {
		return 0, r.Context.Err()
	}
	n, err := r.data.Read(p)
	for _, sum := range r.Sums {
		sum.Write(p[:n]) // never fails
	}
	if over := r.pass(int64(n)); over != nil {
		return n, over
	}
	return n, err
}

// Nowhere is for data that is only decoded: holes in it cost nothing, unless they are summed
// up.
var Nowhere io.Writer = nowhere{}

type nowhere struct{}

func (nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (nowhere) WriteHole(int64) error       { return nil }

// Writer writes to w through the meter. It is an archive.HoleWriter: where w is none, holes
// become zeros.
func (m Meter) Writer(w io.Writer) io.Writer { return &meteredWriter{m, w} }

type meteredWriter struct {
	Meter
	w io.Writer
}

func (w *meteredWriter) Write(p []byte) (int, error) { return w.write(p, w.w) }

func (w *meteredWriter) write(p []byte, to io.Writer) (int, error) {
	if err := w.pass(int64(len(p))); err != nil {
		return 0, err
	}
	for _, sum := range w.Sums {
		sum.Write(p) // never fails
	}
	return to.Write(p)
}

var zeros [64 << 10]byte

// WriteHole is that of archive.HoleWriter.
func (w *meteredWriter) WriteHole(n int64) error {
	holes, leaps := w.w.(archive.HoleWriter)
	if leaps && w.Sums == nil {
		counts := n
		if w.w == Nowhere {
			counts = 0
		}
		if err := w.pass(counts); err != nil {
			return err
		}
		return holes.WriteHole(n)
	}
	to := w.w
	if leaps {
		to = Nowhere
	}
	for left := n; left > 0; left -= int64(len(zeros)) {
		if _, err := w.write(zeros[:min(left, int64(len(zeros)))], to); err != nil {
			return err
		}
	}
	if leaps {
		return holes.WriteHole(n)
	}
	return nil
}
