// Package verify decodes archives and checks what can be checked, without
// writing anything; and compares two archives or folders with each other.
package verify

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/fault"
	"widecrate/core/inspect"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
)

// Run checks archives, and calls report for each, in order. It counts in decoded
// how many bytes came out so far; nil: nobody asks. The parts of sets are held
// against the lists of sums beside them. What could not be unpacked by a rule for links
// is unsafe.
func Run(ctx context.Context, o inspect.Options, links plan.Links, workers int, decoded *atomic.Int64, tell func(*report.Verified)) error {
	if decoded == nil {
		decoded = new(atomic.Int64)
	}
	o.Whole = true
	if o.Sums == nil {
		o.Sums = new(parts.Lists)
	}
	return inspect.Run(ctx, o, func(a *inspect.Archive, err error) error {
		if err == nil && a.Inside != "" { // where it lies counts like the path of a file
			_, err = place.Clean(a.Inside)
			err = fault.At(a.Path, err)
		}
		r := &checking{Verified: report.Verified{Archive: a.Path, Err: err}, links: links}
		if err == nil {
			err = r.check(ctx, a, workers, decoded)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if r.Err == nil {
			r.Err = err
		}
		r.Took = time.Since(a.Began)
		tell(&r.Verified)
		return nil
	})
}

// checking is a report in the making.
type checking struct {
	report.Verified
	links    plan.Links
	locked   error // of the first entry that no password opens
	lockedAt int64
}

// check decodes every entry.
func (r *checking) check(ctx context.Context, a *inspect.Archive, workers int, decoded *atomic.Int64) error {
	var mu sync.Mutex
	err := a.Each(workers, &r.LeftOut, func(e *archive.Entry, open func() (io.ReadCloser, error), sum []byte) error {
		link := e.Link
		if e.Kind == archive.Folder && r.safe(e, link) == nil || ctx.Err() != nil {
			return ctx.Err()
		}
		size, err := max(e.Size, 0), error(nil)
		switch {
		case open == nil:
		case e.Kind == archive.Symlink && link == "":
			link, err = target(open, meter{ctx, decoded, nil, a.Budget()})
			size = int64(len(link))
		case e.Kind == archive.File || e.Kind == archive.Hardlink:
			var to hash.Hash
			if a.Hashes() {
				to = sha256.New()
			}
			if size, err = decode(open, meter{ctx, decoded, to, a.Budget()}); to != nil && err == nil {
				sum = to.Sum(nil)
			}
		}
		if err == nil {
			err = r.safe(e, link)
		}
		mu.Lock()
		defer mu.Unlock()
		r.Entries++
		r.Bytes = archive.Plus(r.Bytes, size)
		if err == nil && sum != nil {
			r.Files = append(r.Files, report.Packed{Path: e.Path, SHA256: sum})
		}
		_, over := errors.AsType[exceeded](err)
		switch kind := fault.Of(err); {
		case kind == fault.Unreadable, over:
			return fault.At(a.Path, fault.At(e.Path, err)) // the disk, or a bound, not the entry
		case kind == fault.Password: // no damage, and once is enough
			r.Locked++
			if r.locked == nil || e.Offset < r.lockedAt {
				r.locked, r.lockedAt = fault.At(a.Path, fault.At(e.Path, err)), e.Offset
			}
		case err != nil:
			at, _ := slices.BinarySearchFunc(r.Bad, e.Offset, func(b report.Bad, offset int64) int { return cmp.Compare(b.Offset, offset) })
			r.Bad = slices.Insert(r.Bad, at, report.Bad{Path: e.Path, Offset: e.Offset, Err: fault.At(a.Path, fault.At(e.Path, err))})
		case e.HasCRC32 || e.Summed || e.Encrypted: // what is locked is authenticated
			r.Sums++
		}
		return nil
	})
	if err == nil {
		err = r.locked
	}
	return err
}

// safe makes sure that an entry, perhaps a link, would be unpacked.
func (r *checking) safe(e *archive.Entry, link string) error {
	switch {
	case r.links == plan.SkipLinks && (e.Kind == archive.Symlink || e.Kind == archive.Hardlink):
		return nil
	case r.links == plan.RebaseLinks && e.Kind == archive.Symlink:
		link = place.Rebase(e.Path, link)
	}
	return place.Check(e, link)
}

// decode reads data to its end and throws it away.
func decode(open func() (io.ReadCloser, error), to meter) (int64, error) {
	data, err := open()
	if err != nil {
		return 0, err
	}
	defer data.Close()
	block := pieces.Get().(*[piece]byte)
	defer pieces.Put(block)
	return io.CopyBuffer(to, data, block[:]) // which leaps over holes
}

// target reads where a link points to.
func target(open func() (io.ReadCloser, error), to meter) (string, error) {
	data, err := open()
	if err != nil {
		return "", err
	}
	defer data.Close()
	return archive.Target(io.TeeReader(data, to))
}

// meter counts what is written to it.
type meter struct {
	ctx     context.Context
	decoded *atomic.Int64
	sum     hash.Hash // nil: nobody asks
	budget  *bound.Budget
}

// exceeded is the error of a bound.
type exceeded struct{ error }

func (e exceeded) Unwrap() error { return e.error }

// spend counts what came out.
func (m meter) spend(n int64) error {
	m.decoded.Add(n)
	if err := m.budget.Spend(n); err != nil {
		return exceeded{err}
	}
	return m.ctx.Err()
}

func (m meter) Write(p []byte) (int, error) {
	if m.sum != nil {
		m.sum.Write(p) // never fails
	}
	return len(p), m.spend(int64(len(p)))
}

// WriteHole is that of archive.HoleWriter: there is nothing to check in a hole, but
// its zeros count in the sum.
func (m meter) WriteHole(n int64) error {
	if m.sum == nil {
		return m.ctx.Err() // what is not stored is not decoded either
	}
	if err := m.spend(n); err != nil { // it is summed up like all else
		return err
	}
	for zeros := [4096]byte{}; n > 0 && m.ctx.Err() == nil; n -= int64(len(zeros)) {
		m.sum.Write(zeros[:min(n, int64(len(zeros)))])
	}
	return m.ctx.Err()
}

const piece = 128 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}
