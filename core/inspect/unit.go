package inspect

import (
	"context"
	"crypto/sha256"
	"hash"
	"io"
	"slices"
	"time"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// run is one call of Visit.
type run struct {
	*Options
	ctx     context.Context
	stop    context.CancelCauseFunc
	visitor func(*Archive) Visitor
}

// unit is one archive that is looked into; see schedule.Unit.
type unit struct {
	run     *run
	source  *source.Source
	inside  *walk.Inside // nil for a source
	archive Archive
	visitor Visitor
	began   time.Time
	open    *walk.Archive
	sums    map[int][]byte // SHA-256 of the files of an archive that comes in order
	err     error          // why not all of the archive could be gone through
	read    []reading      // what Do reads
	shares  [][]int        // of these
}

func (r *run) unit(s *source.Source, inside *walk.Inside, a Archive) *unit {
	a.request = &r.Request
	u := &unit{run: r, source: s, inside: inside, archive: a}
	u.visitor = r.visitor(&u.archive)
	return u
}

// Open lists the archive, and reads what passes by only once.
func (u *unit) Open(func() error) (work schedule.Work, err error) {
	u.began = time.Now()
	if err := u.openArchive(); err != nil {
		return work, err
	}
	a := &u.archive
	a.Size, a.Format = u.open.Size(), u.open.Format
	work.Inside, u.err = u.list()
	work.Weight = int64(len(a.entries)) * 256 // about what is kept of each
	a.member = u.open.Member
	a.Remarks, a.Summed = u.open.Remarks(), u.open.Summed()
	if u.err == nil {
		u.err = u.visitor.Begin()
	}
	if u.err == nil && u.run.Whole {
		u.err = u.plan()
	}
	u.run.Selection.NoteNearest(a.entries)
	if u.err != nil { // what is inside is looked into all the same
		return work, nil
	}
	for _, share := range u.shares {
		work.Shares = append(work.Shares, share[0])
	}
	if u.run.Links {
		u.follow()
	}
	return work, nil
}

func (u *unit) openArchive() (err error) {
	trust := walk.Looked
	if u.run.Whole {
		trust = walk.Complete
	}
	if u.inside != nil {
		u.open, err = u.inside.Open(u.run.ctx, trust, nil)
		return err
	}
	o := u.run.Opening()
	if o.Whole = u.run.Whole; !o.Whole {
		o.Sums = nil
	}
	u.open, err = walk.Open(u.run.ctx, *u.source, o)
	return err
}

// list goes through the entries, and finds the archives inside. Sizes that are not known
// before the data are counted.
func (u *unit) list() (inside []schedule.Unit, err error) {
	add := func(e *archive.Entry, in *walk.Inside) {
		inside = append(inside, u.run.unit(u.source, in, Archive{Path: u.archive.Path + " › " + e.Path, Inside: e.Path, Depth: u.archive.Depth + 1}))
	}
	if u.open.AnyOrder() {
		u.archive.entries = u.open.Entries()
		for i := range u.archive.entries {
			if e := &u.archive.entries[i]; u.isInside(e) {
				add(e, u.open.Inside(i))
			}
		}
		return inside, nil
	}
	u.sums = map[int][]byte{}
	for e, err := range u.open.Walk(u.run.ctx) {
		if err != nil {
			return inside, err
		}
		if u.isInside(e.Entry) {
			add(e.Entry, e.Inside(u.run.ctx, nil))
		} else if err := u.pass(e); err != nil {
			return inside, fault.At(e.Path, err)
		}
		u.archive.entries = append(u.archive.entries, *e.Entry)
	}
	return inside, nil
}

func (u *unit) isInside(e *archive.Entry) bool {
	if u.run.Nested == 0 {
		return false
	}
	_, inside := u.run.Judge(e, u.archive.Depth)
	return inside
}

// pass reads an entry that passes by, where anything is to be known of its data. Holes would
// take for ever, where only that is checked.
func (u *unit) pass(e *walk.Entry) (err error) {
	file := e.Kind == archive.File
	sums := u.hashes(file)
	if sums == nil && e.Size != archive.Unknown && !(u.run.Whole && file && e.Holes == 0) {
		return nil
	}
	meter := bound.Meter{Context: u.run.ctx, Budget: u.open.Budget(), Sums: sums}
	if e.Size, err = io.Copy(meter.Writer(bound.Nowhere), e); err == nil && sums != nil {
		u.sums[e.Index] = sums[0].Sum(nil)
	}
	return err
}

func (u *unit) hashes(file bool) []hash.Hash {
	if !file || !u.run.Hash {
		return nil
	}
	return []hash.Hash{sha256.New()}
}

// follow finds out where links lead.
func (u *unit) follow() {
	a := &u.archive
	a.links = map[int]link{}
	for i := range a.entries {
		e := &a.entries[i]
		if e.Kind != archive.Symlink || e.Encrypted {
			continue
		}
		switch verdict, _ := u.run.Judge(e, a.Depth); {
		case verdict != choose.Kept:
		case u.open.AnyOrder():
			to, err := u.open.Link(i)
			a.links[i] = link{to, err}
		default:
			a.links[i] = link{to: e.Link}
		}
	}
}

// Data is that of an entry.
type Data struct {
	// Open opens the data: for a hard link that of the file's first name, where that is to be
	// hashed, or the error why there is none. nil: the data was read when it passed by, or
	// need not be read.
	Open func() (io.ReadCloser, error)

	SHA256 []byte        // of what was read when it passed by, where that is asked for
	Budget *bound.Budget // of the archive
}

// reading is an entry, and the one with its data: another for a hard link; -1: none.
type reading struct{ entry, data int }

// plan finds out what is to be read of an archive with a directory; what has passed by is
// shown to the visitor at once.
func (u *unit) plan() error {
	var links place.Hardlinks
	for i, e := range u.archive.Entries(new(choose.Tally)) {
		data, from := Data{Budget: u.open.Budget()}, i
		if e.Kind == archive.Hardlink {
			first, err := links.First(u.archive.entries, i)
			if err != nil {
				data.Open = func() (io.ReadCloser, error) { return nil, err }
				if err := u.visitor.Entry(e, data); err != nil {
					return err
				}
				continue
			}
			from = first
		}
		if !u.open.AnyOrder() {
			data.SHA256 = u.sums[from]
			if err := u.visitor.Entry(e, data); err != nil {
				return err
			}
			continue
		}
		if from != i && !(u.run.Hash && u.archive.entries[from].Kind == archive.File) {
			from = -1 // the data is read once
		}
		u.read = append(u.read, reading{i, from})
	}
	u.shares = schedule.Shares(len(u.read), func(n int) int64 { return u.archive.entries[u.read[n].entry].Size })
	u.open.Foresee(func(yield func(int) bool) {
		for _, n := range slices.Concat(u.shares...) {
			if !yield(u.read[n].entry) {
				return
			}
		}
	})
	return nil
}

// Do shows the visitor a share of the entries.
func (u *unit) Do(share int) (at int, err error) {
	for _, n := range u.shares[share] {
		r, data := u.read[n], Data{Budget: u.open.Budget()}
		if r.data >= 0 {
			data.Open = func() (io.ReadCloser, error) { return u.open.Data(r.data) }
		}
		if err := u.visitor.Entry(&u.archive.entries[r.entry], data); err != nil {
			return n, err
		}
	}
	return 0, nil
}

// Finish closes the archive: those that wait for their turn are many.
func (u *unit) Finish() {
	if u.open != nil {
		u.archive.Passwords = u.open.Passwords()
		u.open.Close() // read only: nothing can be lost
	}
	u.open, u.read = nil, nil
}

// Settle completes the outcome.
func (u *unit) Settle(err error) error {
	if u.err == nil {
		u.err = err
	}
	if u.err != u.source.Err() || u.inside != nil {
		u.err = fault.At(u.archive.Path, u.err)
	}
	u.archive.Took = report.Since(u.began)
	return u.err
}

// Report passes the outcome on, which may be large and is let go of afterwards.
func (u *unit) Report() {
	if err := u.visitor.End(u.err); err != nil {
		u.run.stop(err)
	}
	u.archive, u.visitor, u.sums = Archive{}, nil, nil
}

// Drop lets go of an archive that is not reported.
func (u *unit) Drop() {
	u.Finish()
	if u.inside != nil {
		u.inside.Close()
	}
}
