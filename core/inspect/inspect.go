// Package inspect looks inside archives without unpacking them.
package inspect

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"iter"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// Options is a request to look inside.
type Options struct {
	Sources   []source.Source
	Reading   archive.Options
	Whole     bool         // all that the selection keeps will be read, and nothing is opened where it lies
	Sums      *parts.Lists // of SHA-256 sums, to check archives against, which reads them whole, and sets against those beside them; nil: nothing is checked
	Selection *choose.Selection
	Nested    int      // how deep archives inside archives are opened; 0: not
	Archives  []string // inside an archive, what matches one is an archive too
	Limits    bound.Limits
	Hash      bool // find the SHA-256 of what comes in order, for Each
}

// Archive is one archive that was looked into. It is valid only during the call
// of visit that it is passed to.
type Archive struct {
	Path    string // "outer.zip › inner.zip" for one inside another
	Inside  string // its path in the one around it; empty: it is a source
	Depth   int    // how many are around it
	Began   time.Time
	Size    int64 // of the archive itself
	Format  string
	Remarks []archive.Remark // how it was read; see archive.Remarks
	open    *walk.Archive
	entries []archive.Entry
	failed  map[int]error  // of archives inside one that comes in order
	sums    map[int][]byte // SHA-256 of the files of one that comes in order
	options *Options
	budget  *bound.Budget
}

// Budget is what may be decoded of it, and of the others of its source.
func (a *Archive) Budget() *bound.Budget { return a.budget }

// Run opens the sources one after the other, each followed by the archives
// inside it, and calls visit for each, with the error where one cannot be
// opened. It stops when ctx is cancelled or visit fails.
func Run(ctx context.Context, o Options, visit func(*Archive, error) error) error {
	ctx, cancel := context.WithCancel(ctx)
	opening := opening{Options: &o}
	defer opening.close()
	defer cancel()
	for i, s := range o.Sources {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		a := &Archive{Path: s.Path, Began: time.Now(), options: &o}
		var opened *walk.Archive
		err := fault.Guard(func() (err error) {
			opened, err = opening.open(ctx, i)
			return err
		})
		if ctx.Err() != nil {
			if opened != nil {
				opened.Close()
			}
			return ctx.Err()
		}
		if err != nil {
			if err != s.Err {
				err = fault.At(s.Path, err)
			}
			if err := visit(a, err); err != nil {
				return err
			}
			continue
		}
		err = fault.Guard(func() error { return a.look(ctx, opened, opened.Budget(), visit) })
		if _, ours := errors.AsType[*fault.Panic](err); ours { // the others go on
			err = visit(a, fault.At(s.Path, err))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// opening opens sources one after the other; of those at addresses, which mostly
// wait, a few ahead: each may hold a connection until its turn has come.
type opening struct {
	*Options
	ahead []chan opened // of the sources so far; nil for one that was not begun ahead
}

type opened struct {
	archive *walk.Archive
	err     error
}

func (o *opening) open(ctx context.Context, i int) (*walk.Archive, error) {
	for n := len(o.ahead); n < len(o.Sources); n++ {
		var done chan opened
		if a := o.Sources[n].Address; a != nil {
			if n > i && n-i >= a.Connections() {
				break
			}
			done = make(chan opened, 1)
			go func() {
				var a *walk.Archive
				err := fault.Guard(func() (err error) {
					a, err = o.openSource(ctx, o.Sources[n])
					return err
				})
				done <- opened{a, err}
			}()
		} else if n > i {
			break
		}
		o.ahead = append(o.ahead, done)
	}
	if done := o.ahead[i]; done != nil {
		o.ahead[i] = nil
		a := <-done
		return a.archive, a.err
	}
	return o.openSource(ctx, o.Sources[i])
}

// close lets go of those that nobody asked for.
func (o *opening) close() {
	for _, done := range o.ahead {
		if done == nil {
			continue
		}
		if a := <-done; a.archive != nil {
			a.archive.Close()
		}
	}
}

func (o *opening) openSource(ctx context.Context, s source.Source) (*walk.Archive, error) {
	if o.Sums != nil {
		if err := s.CheckSums(ctx, o.Sums); err != nil {
			return nil, err
		}
	}
	return walk.Open(ctx, s, walk.Opening{Options: o.Reading, Limits: o.Limits, Whole: o.Whole, Most: o.Limits.Total})
}

// look visits an open archive and those inside it, and closes it.
func (a *Archive) look(ctx context.Context, opened *walk.Archive, budget *bound.Budget, visit func(*Archive, error) error) error {
	defer opened.Close()
	a.open, a.Size, a.Format, a.budget = opened, opened.Size(), opened.Format, budget
	var inner []*walk.Archive // of an archive that comes in order
	var err error
	if opened.Reader != nil {
		a.entries = opened.Entries()
		err = budget.Count(len(a.entries))
	} else {
		inner, err = a.gather(ctx, budget)
	}
	defer func() {
		for _, left := range inner {
			if left != nil {
				left.Close()
			}
		}
	}()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	a.Remarks = opened.Remarks()
	err = visit(a, fault.At(a.Path, err))
	a.options.Selection.Consider(a.entries)
	for i := 0; i < len(a.entries) && err == nil; i++ {
		if !a.isInner(&a.entries[i]) {
			continue
		}
		in := &Archive{Path: a.Path + " › " + a.entries[i].Path, Inside: a.entries[i].Path, Depth: a.Depth + 1, Began: time.Now(), options: a.options}
		var next *walk.Archive
		var failed error
		if opened.Reader != nil {
			next, failed = a.openInner(ctx, i, budget)
		} else {
			next, failed = inner[i], a.failed[i]
			inner[i] = nil
		}
		switch {
		case ctx.Err() != nil:
			err = ctx.Err()
		case failed != nil:
			err = visit(in, fault.At(in.Path, failed))
		default:
			err = in.look(ctx, next, budget, visit)
		}
	}
	return err
}

// gather lists an archive that comes in order, and opens the archives inside it
// as they pass by. Sizes that are not known before the data are counted.
func (a *Archive) gather(ctx context.Context, budget *bound.Budget) (inner []*walk.Archive, err error) {
	cursor := a.open.Cursor(ctx, budget)
	defer cursor.Close()
	a.failed, a.sums = map[int]error{}, map[int][]byte{}
	for {
		e, err := cursor.Next()
		if err == io.EOF {
			return inner, nil
		}
		if err != nil {
			return inner, err
		}
		entry, i := *e, cursor.Index()
		inner = append(inner, nil)
		if a.isInner(&entry) {
			if inner[i], err = a.open.Inner(&entry, cursor.Bounded(), nil); err != nil {
				a.failed[i] = err
			}
		} else if hashed := a.options.Hash && entry.Kind == archive.File; hashed || entry.Size == archive.Unknown || a.wholly(&entry) {
			sum := sha256.New()
			to := io.Writer(io.Discard)
			if hashed {
				to = sum
			}
			if entry.Size, err = io.Copy(to, cursor.Bounded()); err != nil {
				return inner, fault.At(entry.Path, err)
			}
			if hashed {
				a.sums[i] = sum.Sum(nil)
			}
		}
		a.entries = append(a.entries, entry)
	}
}

// wholly reports whether the data of an entry is read so that it is checked, and counts;
// holes would take for ever.
func (a *Archive) wholly(e *archive.Entry) bool {
	return a.options.Whole && e.Kind == archive.File && e.Holes == 0
}

func (a *Archive) openInner(ctx context.Context, i int, budget *bound.Budget) (*walk.Archive, error) {
	if !a.options.Whole {
		if inner, err := a.open.InnerInPlace(i, nil); inner != nil || err != nil {
			return inner, err
		}
	}
	data, err := a.open.Open(i)
	if err != nil {
		return nil, err
	}
	defer data.Close()
	return a.open.Inner(&a.entries[i], budget.Reader(ctx, data), nil)
}

// judge says what the selection says of an entry, and whether it is an archive to be opened.
func (a *Archive) judge(e *archive.Entry) (verdict choose.Rule, inner bool) {
	if a.options.Nested > 0 && e.Kind == archive.File && source.IsArchive(e.Path, a.options.Archives) {
		return a.options.Selection.JudgeArchive(e, a.Depth, a.options.Nested)
	}
	return a.options.Selection.Judge(e), false
}

func (a *Archive) isInner(e *archive.Entry) bool {
	_, inner := a.judge(e)
	return inner
}

// Entries goes through the entries that the selection keeps, in the order of
// the archive, and counts the others in leftOut. Archives that are opened
// themselves are neither.
func (a *Archive) Entries(leftOut *choose.Tally) iter.Seq2[int, *archive.Entry] {
	return func(yield func(int, *archive.Entry) bool) {
		for i := range a.entries {
			e := &a.entries[i]
			verdict, inner := a.judge(e)
			if inner {
				continue
			}
			if verdict == choose.Kept {
				if !yield(i, e) {
					return
				}
			} else if e.Kind != archive.Folder {
				leftOut[verdict]++
			}
		}
	}
}

// Each goes through the entries that the selection keeps, and gives each to do
// with a function that opens its data. Several workers (0: one for each processor) do so at once, and share
// them by size; the error of the first that fails is returned. An archive that
// comes in order was read to its end when it was opened: open is nil then, and with
// Hash there is its SHA-256. Of a hard link, open is the data that it is a second name of,
// where that is to be hashed, or why there is none.
func (a *Archive) Each(workers int, leftOut *choose.Tally, do func(e *archive.Entry, open func() (io.ReadCloser, error), sum []byte) error) error {
	var kept []int
	data := map[int]int{} // of hard links: the entry with it
	var links place.Hardlinks
	for i, e := range a.Entries(leftOut) {
		var err error
		if e.Kind == archive.Hardlink {
			first := 0
			if first, err = links.First(a.entries, i); err == nil {
				data[i] = first
			}
		}
		switch why := err; {
		case why != nil:
			err = do(e, func() (io.ReadCloser, error) { return nil, why }, nil)
		case a.open.Reader != nil:
			kept = append(kept, i)
		case e.Kind == archive.Hardlink:
			err = do(e, nil, a.sums[data[i]])
		default:
			err = do(e, nil, a.sums[i])
		}
		if err != nil {
			return err
		}
	}
	if workers < 1 {
		workers = runtime.GOMAXPROCS(0)
	}
	shares := schedule.Shares(len(kept), func(n int) int64 { return a.entries[kept[n]].Size })
	a.open.Foresee(func(yield func(int) bool) {
		for _, n := range slices.Concat(shares...) {
			if !yield(kept[n]) {
				return
			}
		}
	})
	var group errgroup.Group
	group.SetLimit(workers)
	for _, share := range shares {
		group.Go(func() error {
			for _, n := range share {
				i := kept[n]
				open := func() (io.ReadCloser, error) { return a.open.Open(i) }
				if first, link := data[i]; link {
					open = nil // it is read once
					if a.options.Hash && a.entries[first].Kind == archive.File {
						open = func() (io.ReadCloser, error) { return a.open.Open(first) }
					}
				}
				if err := fault.Guard(func() error { return do(&a.entries[i], open, nil) }); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// Hashes reports whether SHA-256 sums are asked for.
func (a *Archive) Hashes() bool { return a.options.Hash }

// Link returns where the i-th entry, a link, points to.
func (a *Archive) Link(i int) (string, error) {
	if a.open.Reader == nil {
		return a.entries[i].Link, nil
	}
	target, err := archive.LinkTarget(a.open, i)
	return target, fault.At(a.Path, fault.At(a.entries[i].Path, err))
}
