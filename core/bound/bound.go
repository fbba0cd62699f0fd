// Package bound protects against hostile archives: it limits what one source, with
// all archives inside, may unpack to, while that is being decoded.
package bound

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"

	"github.com/dustin/go-humanize"

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
	size    func() int64 // of the source; it may grow as the source arrives
	ratio   int64
	floor   int64 // bytes that are allowed whatever the size
	total   int64
	entries int64
	known   atomic.Int64 // the latest limit
	used    atomic.Int64
	decoded atomic.Int64
	seen    atomic.Int64
}

// Budget returns what a source may unpack to that is of a size in bytes, which may
// grow while it arrives.
func (b Limits) Budget(size func() int64) *Budget {
	if size == nil {
		size = func() int64 { return 0 }
	}
	u := &Budget{size: size, ratio: b.Ratio, total: b.Total, entries: b.Entries}
	if u.ratio == 0 { // one that is given holds as given
		u.ratio, u.floor = DefaultRatio, RatioFloor
	}
	if u.entries == 0 {
		u.entries = DefaultEntries
	}
	return u
}

// limit is how many bytes there may be, and what allows more.
func (b *Budget) limit() (int64, fault.Hint) {
	limit := int64(math.MaxInt64)
	if size := b.size(); size < math.MaxInt64/b.ratio {
		limit = max(size*b.ratio, b.floor)
	}
	if b.total > 0 && b.total < limit {
		return b.total, fault.AllowTotal
	}
	return limit, fault.AllowRatio
}

// Check compares what is about to be unpacked with what is left. Too much is of
// kind fault.Unsafe.
func (b *Budget) Check(bytes int64) error {
	used := b.used.Load()
	if bytes <= b.known.Load()-used {
		return nil
	}
	limit, why := b.limit()
	b.known.Store(limit)
	if bytes > limit-used {
		too := fmt.Errorf("it unpacks to more than %s, far more than its size lets expect", humanize.IBytes(uint64(limit)))
		return fault.New(fault.Unsafe, "%w", exceeded{too}).Suggest(why)
	}
	return nil
}

// exceeded is the error about a bound.
type exceeded struct{ error }

// Exceeded reports whether an error is about a bound, and not about the entry that was
// decoded when there was too much.
func Exceeded(err error) bool {
	_, is := errors.AsType[exceeded](err)
	return is
}

// Spend takes decoded bytes off, with the error of Check.
func (b *Budget) Spend(bytes int64) error {
	if err := b.Check(bytes); err != nil {
		return err
	}
	b.used.Add(bytes)
	return nil
}

// Around is how much may be decoded around the data of entries: headers, and what fills up.
const Around = 64 << 20

// Decode takes off what is decoded of an archive that is compressed as a whole, delivered or
// not: too much is of kind fault.Unsafe. It counts for itself, besides what is spent.
func (b *Budget) Decode(bytes int64) error {
	limit, why := b.limit()
	if decoded := b.decoded.Add(bytes); decoded-Around > limit {
		return fault.New(fault.Unsafe, "more than %s would have to be decoded, far more than its size lets expect", humanize.IBytes(uint64(limit))).Suggest(why)
	}
	return nil
}

// Count takes entries off; too many are of kind fault.Unsafe.
func (b *Budget) Count(entries int) error {
	if b.seen.Add(int64(entries)) > b.entries {
		return fault.New(fault.Unsafe, "it holds more entries than %s", humanize.Comma(b.entries)).Suggest(fault.AllowEntries)
	}
	return nil
}
