// Package bound holds against hostile archives: it limits what one source, with
// all the archives inside it, may unpack to, while it is being decoded.
package bound

import (
	"context"
	"io"
	"math"
	"sync/atomic"

	"widecrate/core/fault"
)

// Limits is what a user allows. Zero values are the defaults.
type Limits struct {
	Total   int64 // bytes; default: no bound but the free space
	Ratio   int64 // times the size of the source; the default one only counts once it is more than RatioFloor
	Entries int64
}

// The defaults. Deflate reaches a ratio of about 1,030 on zeros; honest files
// of more than the floor stay below 200, and small ones may have any ratio.
const (
	DefaultRatio   = 200
	RatioFloor     = 1 << 30
	DefaultEntries = 5_000_000
)

// A Budget is what is left of the limits for one source. It may be used by
// several goroutines.
type Budget struct {
	limit   int64 // bytes
	why     fault.Hint
	entries int64
	used    atomic.Int64
	seen    atomic.Int64
}

// Budget returns what a source of size bytes may unpack to.
func (b Limits) Budget(size int64) *Budget {
	ratio, entries, floor := b.Ratio, b.Entries, int64(0)
	if ratio == 0 { // one that is given holds as given
		ratio, floor = DefaultRatio, RatioFloor
	}
	if entries == 0 {
		entries = DefaultEntries
	}
	limit := int64(math.MaxInt64)
	if size < math.MaxInt64/ratio {
		limit = max(size*ratio, floor)
	}
	u := &Budget{limit: limit, entries: entries, why: fault.AllowRatio}
	if b.Total > 0 && b.Total < limit {
		u.limit, u.why = b.Total, fault.AllowTotal
	}
	return u
}

// Check compares what is about to be unpacked with what is left. Too much is of
// kind fault.Unsafe.
func (b *Budget) Check(bytes int64) error {
	if used := b.used.Load(); bytes > b.limit-used {
		return fault.New(fault.Unsafe, "it unpacks to more than %d bytes, far more than its size lets expect", b.limit).Suggest(b.why)
	}
	return nil
}

// Spend takes decoded bytes off, with the error of Check.
func (b *Budget) Spend(bytes int64) error {
	if err := b.Check(bytes); err != nil {
		return err
	}
	b.used.Add(bytes)
	return nil
}

// Count takes entries off; too many are of kind fault.Unsafe.
func (b *Budget) Count(entries int) error {
	if b.seen.Add(int64(entries)) > b.entries {
		return fault.New(fault.Unsafe, "it holds more than %d entries", b.entries).Suggest(fault.AllowEntries)
	}
	return nil
}

// Reader returns a reader of data within the budget, until ctx is cancelled.
func (b *Budget) Reader(ctx context.Context, data io.Reader) io.Reader {
	return &metered{ctx, data, b}
}

type metered struct {
	ctx    context.Context
	data   io.Reader
	budget *Budget
}

func (m *metered) Read(p []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := m.data.Read(p)
	if spent := m.budget.Spend(int64(n)); spent != nil {
		return n, spent
	}
	return n, err
}
