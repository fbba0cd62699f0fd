// Package inspect looks inside archives, and inside those in them, without unpacking them:
// at several at a time, and reports them in their order.
package inspect

import (
	"context"
	"iter"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/walk"
)

// Options is a request to look inside.
type Options struct {
	walk.Request
	Links bool // find out where links lead; see Archive.Link
	Whole bool // read all that the selection keeps, for Visitor.Entry, and check archives against sums
	Hash  bool // find the SHA-256 of what is read
}

// Archive is one archive that was looked into.
type Archive struct {
	Path    string // "outer.zip › inner.zip" for one inside another
	Inside  string // the path in the archive around this one; empty: this one is a source
	Depth   int    // how many are around it
	Size    int64  // of the archive itself
	Format  string
	Remarks archive.RemarkList // how the archive was read; see archive.Remarks
	Took    report.Took        // to look into it
	Summed  bool               // all of it is checked at its end

	Passwords []int // numbers of the candidates, from 1, that opened what was read

	entries []archive.Entry
	links   map[int]link
	member  func(entry int) string
	request *walk.Request
}

// link is where a link leads, or why nobody knows.
type link struct {
	to  string
	err error
}

// A Visitor deals with one archive.
type Visitor interface {
	// Begin is called when the archive is open. With an error its entries are not gone
	// through.
	Begin() error

	// Entry is called with options that say Whole for each entry that the selection keeps,
	// on several goroutines. An error ends the archive.
	Entry(e *archive.Entry, data Data) error

	// End is called in the order of the archives, each followed by those inside it, with the
	// error of the archive. An error ends the run.
	End(err error) error
}

// Run looks into the sources and the archives inside them, and calls visit for each, in
// order, with the error where one could not be opened. It stops when ctx is cancelled or
// visit fails.
func Run(ctx context.Context, o Options, visit func(*Archive, error) error) error {
	return Visit(ctx, o, func(a *Archive) Visitor { return &visited{a, visit} })
}

// visited is an archive that is only looked into.
type visited struct {
	archive *Archive
	visit   func(*Archive, error) error
}

func (v *visited) Begin() error                     { return nil }
func (v *visited) Entry(*archive.Entry, Data) error { return nil }
func (v *visited) End(err error) error              { return v.visit(v.archive, err) }

// backlog bounds what is known of archives that wait for their turn, in bytes.
const backlog = 64 << 20

// Visit is Run with a visitor for each archive.
func Visit(ctx context.Context, o Options, visitor func(*Archive) Visitor) error {
	o.Complete()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := &run{Options: &o, ctx: ctx, stop: cancel, visitor: visitor}
	schedule.Run(ctx, schedule.Options{Workers: o.Workers, Ordered: true, Backlog: backlog}, len(o.Sources), func(i int) schedule.Unit {
		return r.unit(&o.Sources[i], nil, Archive{Path: o.Sources[i].Path})
	})
	return context.Cause(ctx)
}

// Entries goes through the entries that the selection keeps, in the order of
// the archive, and counts the others in leftOut. Archives that are opened
// themselves are neither.
func (a *Archive) Entries(leftOut *choose.Tally) iter.Seq2[int, *archive.Entry] {
	return func(yield func(int, *archive.Entry) bool) {
		for i := range a.entries {
			e := &a.entries[i]
			verdict, inner := a.request.Judge(e, a.Depth)
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

// Member is the name of the member of a series that the i-th entry is in; empty: of none.
func (a *Archive) Member(i int) string { return a.member(i) }

// LeftOut counts what the selection leaves out.
func (a *Archive) LeftOut() (n choose.Tally) {
	for range a.Entries(&n) { // counts the others
	}
	return n
}

// Link returns where the i-th entry, a symbolic link, points to, with options that ask for it.
func (a *Archive) Link(i int) (string, error) {
	l := a.links[i]
	return l.to, fault.At(a.Path, fault.At(a.entries[i].Path, l.err))
}
