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
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/inspect"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// Options is a request to verify. Zero values are the usual ones.
type Options struct {
	walk.Request
	Failed  disposal.After // what becomes of sources that failed: Keep, or Move
	Begun   time.Time      // this run
	Links   plan.Links     // what could not be unpacked by this rule is unsafe
	Hash    bool           // find the SHA-256 of what is checked; see report.Verified
	Halt    bool           // go no further than the first archive that is not as it should be
	Decoded *atomic.Int64  // counts the bytes that came out so far; nil: nobody asks
}

// Run checks archives, several at a time, and reports a *report.Verified for each, in order,
// and a *report.NotTaken for each after that where it halted; before those, a
// *report.Disposal for each source that failed, where they go. The parts of sets are held
// against the lists of sums beside them.
func Run(ctx context.Context, o Options, tell report.Sink) error {
	if err := source.CheckAfter(o.Sources, o.Begun, &o.Failed); err != nil {
		return err
	}
	look := inspect.Options{Request: o.Request, Whole: true, Hash: o.Hash}
	reported := 0 // sources
	failed := make([]error, len(o.Sources))
	var files [][]blob.File
	if o.Failed.Disposition == disposal.Move {
		files = source.Files(ctx, o.Sources, true)
	}
	err := inspect.Visit(ctx, look, func(a *inspect.Archive) inspect.Visitor {
		return &checking{Verified: report.Verified{Archive: a.Path}, Options: &o, ctx: ctx, archive: a, tell: func(v *report.Verified) {
			if a.Inside == "" {
				reported++
			}
			if at := &failed[reported-1]; *at == nil {
				*at = v.Failure()
			}
			tell(v)
		}}
	})
	if err != nil && err != errHalted {
		return err
	}
	if files != nil {
		source.SetAside(ctx, o.Sources, files, failed, o.Failed.Route(o.Begun, true), false, tell.Disposed(true, false))
	}
	if err == nil {
		return nil
	}
	var left []int
	for i := reported; i < len(o.Sources); i++ {
		left = append(left, i)
	}
	tell.Left(left, func(i int) string { return o.Sources[i].Path })
	return nil
}

// errHalted ends a run after an archive that is not as it should be.
var errHalted = errors.New("the run was halted")

// checking is a report in the making.
type checking struct {
	report.Verified
	*Options
	ctx      context.Context
	archive  *inspect.Archive
	tell     func(*report.Verified)
	mu       sync.Mutex
	locked   error // of the first entry that no password opens
	lockedAt int64
}

// Begin refuses an archive inside another by its path there, which counts like that of a file.
func (c *checking) Begin() error {
	c.LeftOut = c.archive.LeftOut()
	if c.archive.Inside == "" {
		return nil
	}
	_, err := place.Clean(c.archive.Inside)
	return err
}

// End reports what was found.
func (c *checking) End(err error) error {
	c.Err = cmp.Or(err, fault.At(c.archive.Path, c.locked))
	if c.archive.Summed && c.Err == nil && len(c.Bad) == 0 && c.LeftOut.LeftOut() == 0 {
		c.Sums = c.Entries // of the compressed data, which was read to its end
	}
	c.Took, c.Passwords, c.Remarks = c.archive.Took, c.archive.Passwords, c.archive.Remarks
	c.tell(&c.Verified)
	if c.Halt && (c.Err != nil || len(c.Bad) > 0) {
		return errHalted
	}
	return nil
}

// Entry decodes an entry.
func (c *checking) Entry(e *archive.Entry, data inspect.Data) error {
	link := e.Link
	if e.Kind == archive.Folder && c.safe(e, link) == nil || c.ctx.Err() != nil {
		return c.ctx.Err()
	}
	size, sum, err := max(e.Size, 0), data.SHA256, error(nil)
	if data.Open != nil {
		size, link, sum, err = c.read(e, data)
	}
	if err == nil {
		err = c.safe(e, link)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Entries++
	c.Bytes = archive.Plus(c.Bytes, size)
	if err == nil && sum != nil {
		c.Files = append(c.Files, report.Packed{Path: e.Path, SHA256: sum})
	}
	switch kind := fault.Of(err); {
	case kind == fault.Unreadable, bound.Exceeded(err):
		return fault.At(e.Path, err) // the disk, or a bound, not the entry
	case kind == fault.Password: // no damage, and once is enough
		if c.locked == nil || e.Offset < c.lockedAt {
			c.locked, c.lockedAt = fault.At(e.Path, err), e.Offset
		}
	case err != nil:
		c.Fail(e, err)
	case e.HasCRC32 || e.Summed || e.Encrypted: // what is locked is authenticated
		c.Sums++
	}
	return nil
}

// read decodes the data of an entry, and finds out its size, where a link leads, and the
// SHA-256 if that is asked for.
func (c *checking) read(e *archive.Entry, data inspect.Data) (size int64, link string, sum []byte, err error) {
	meter := bound.Meter{Context: c.ctx, Budget: data.Budget, Total: c.Decoded}
	size, link = max(e.Size, 0), e.Link
	switch {
	case e.Kind == archive.Symlink && link == "":
		link, err = target(data, meter)
		size = int64(len(link))
	case e.Kind == archive.File || e.Kind == archive.Hardlink:
		if c.Hash {
			meter.Sums = []hash.Hash{sha256.New()}
		}
		if size, err = decode(data, meter); c.Hash && err == nil {
			sum = meter.Sums[0].Sum(nil)
		}
	}
	return size, link, sum, err
}

// safe makes sure that an entry, perhaps a link, would be unpacked.
func (c *checking) safe(e *archive.Entry, link string) error {
	switch {
	case c.Links == plan.SkipLinks && (e.Kind == archive.Symlink || e.Kind == archive.Hardlink):
		return nil
	case c.Links == plan.RebaseLinks && e.Kind == archive.Symlink:
		link = place.Rebase(e.Path, link)
	}
	return place.Check(e, link)
}

// decode reads data to its end and throws it away.
func decode(data inspect.Data, meter bound.Meter) (int64, error) {
	from, err := data.Open()
	if err != nil {
		return 0, err
	}
	defer from.Close()
	block := pieces.Get().(*[piece]byte)
	defer pieces.Put(block)
	return io.CopyBuffer(meter.Writer(bound.Nowhere), from, block[:]) // which leaps over holes
}

// target reads where a link points to.
func target(data inspect.Data, meter bound.Meter) (string, error) {
	from, err := data.Open()
	if err != nil {
		return "", err
	}
	defer from.Close()
	return archive.Target(meter.Reader(from))
}

const piece = 128 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}
