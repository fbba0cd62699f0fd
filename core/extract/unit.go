package extract

import (
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/walk"
)

// unit is one archive on its way; see schedule.Unit. There may be millions: what is only
// needed while one is dealt with comes with begin, and goes when it is reported.
type unit struct {
	run    *run
	top    *unit          // that of the source; itself, or around it
	source *source.Source // the outermost archive
	root   *openRoot
	inside *inside // nil for a source
	err    error   // why a source is not even opened
	*dealings
	after *afterwards // of a source that something becomes of; nil: it stays

	taken   bool
	failed  bool
	dropped bool // it, or something inside it
	untaken bool // it, or one around it
}

// dealings are what is known of an archive while it is dealt with.
type dealings struct {
	target  place.Target
	outcome *report.Unpacked
	started time.Time
	budget  *bound.Budget
	files   []blob.File // of a source

	archive *walk.Archive
	closed  bool  // the archive is
	read    int64 // bytes of one that comes in order that are in the progress
	entries []archive.Entry
	plan    *plan.Plan
	output  output
	losing  sync.Mutex
	found   map[int]bool   // entries of which a dry run found the checksum
	sums    map[int][]byte // SHA-256 of what was written, by entry; under losing
}

// afterwards is what has to be known of a source in the end.
type afterwards struct {
	files     []blob.File
	root      string // that it went to
	delivered []disposal.Record
	partial   []string // why not all of it was delivered
}

// partly notes why not all of a source was delivered.
func (u *unit) partly(why string) {
	if u.after != nil {
		u.after.partial = append(u.after.partial, why)
	}
}

// output is where the data of a unit goes: to staging, nowhere in a dry run, or
// out as a stream.
type output interface {
	// pass gets the data of an entry of an archive that comes in order, when it
	// passes by: it is kept, but has no place yet. Where damage is salvaged, the
	// entry is dropped after an error.
	pass(i int, data io.Reader) error
	drop(i int) error

	// begin is called when the plan is complete, and says what is to be done.
	begin() (schedule.Work, error)

	// do works on one share of it.
	do(share int) (at int, err error)

	// commit brings it to its end, and discard takes everything back.
	commit() ([]stage.Result, error)
	discard() error

	// gone lists the paths of an earlier run that are no longer there after the
	// commit.
	gone() []string
}

// Open opens the archive, plans what becomes of its entries, and says what is to
// be done for it.
func (u *unit) Open(turn func() error) (schedule.Work, error) {
	u.begin()
	u.started, u.taken = time.Now(), true
	if u.doneEarlier() {
		return schedule.Work{}, nil
	}
	if err := u.openArchive(); err != nil {
		return schedule.Work{}, err
	}
	u.outcome.Format = u.archive.Format
	u.plan = plan.New(&u.run.plans, u.depth(), u)
	u.output = u.run.output(u)
	inner, err := u.consider()
	defer func() {
		for _, in := range inner { // those that did not become units
			in.Close()
		}
	}()
	if err == nil && u.run.ordered && u.run.Placement.Counts() {
		err = turn()
	}
	if err == nil {
		err = u.plan.Place(u.entries, u.target, u.outcome.Target, u.name(), u.budget)
	}
	if err != nil {
		return schedule.Work{}, err
	}
	u.target = u.plan.Target
	u.outcome.Target = u.run.absolute(u.target.Path())
	if u.run.Rules.Fresh && u.run.Placement.Layout == place.Auto {
		if err := u.run.claim(u); err != nil {
			return schedule.Work{}, err
		}
	}
	var work schedule.Work
	if len(u.plan.Items) > 0 {
		if work, err = u.output.begin(); err != nil {
			return schedule.Work{}, err
		}
	} else if u.run.Rules.Fresh {
		return schedule.Work{}, fault.New(fault.NoMatch, "nothing of it is kept, and so its old folder stays")
	}
	work.Inside = u.innerUnits(inner)
	u.outcome.Inside = len(work.Inside)
	inner = nil
	return work, nil
}

func (u *unit) openArchive() (err error) {
	r := u.run
	if u.inside != nil {
		u.archive, err = u.inside.Open(r.ctx, walk.Checked, u.spoolDir)
		return err
	}
	o := r.Opening()
	o.Whole, o.Dir, o.Kept = !r.DryRun && r.Nested == 0 && !r.Selection.Picks(), u.spoolDir, &r.Progress.Kept
	if r.Reading.Salvage { // of what is damaged, all is taken that there is
		o.Sums = nil
	}
	if u.archive, err = walk.Open(r.ctx, u.outcome.Source, o); err != nil {
		return err
	}
	u.files = slices.Clone(u.archive.Files) // what is inside looks at these
	u.budget = u.archive.Budget()
	if u.outcome.Source.Elsewhere() {
		r.Progress.Expected.Add(u.archive.Expected())
	}
	return u.rename()
}

// spoolDir is where an archive inside another is kept if it is too large for
// memory: with the rest of what is staged.
func (u *unit) spoolDir() (string, error) {
	if u.run.DryRun {
		return "", nil
	}
	root, err := u.root.use(u.run)
	if err != nil {
		return "", err
	}
	return root.Area(), nil
}

// consider goes through the entries. The data of an archive that comes in order
// passes by here; the archives inside it are opened meanwhile.
func (u *unit) consider() (inner []*walk.Inside, err error) {
	if u.AnyOrder() {
		u.entries = u.archive.Entries()
		if err := u.archive.Broken(); err != nil {
			u.lose("", err)
		}
	}
	for e, err := range u.archive.Walk(u.run.ctx) {
		if u.salvages(err) && len(u.entries) > 0 {
			u.lose("", err)
			return inner, nil
		}
		if err != nil {
			return inner, err
		}
		if u.AnyOrder() {
			u.plan.Consider(e.Index, e.Entry)
			continue
		}
		u.entries = append(u.entries, *e.Entry)
		switch verdict := u.plan.Consider(e.Index, e.Entry); {
		case verdict == plan.Open:
			inner = append(inner, e.Inside(u.run.ctx, u.spoolDir))
		case verdict == plan.Keep && e.Kind == archive.File:
			err := u.output.pass(e.Index, e)
			if u.salvages(err) { // a stream does not go on after a break
				u.plan.Forget()
				u.lose(u.Called(e.Index), err)
				return inner, u.output.drop(e.Index)
			}
			if err != nil {
				return inner, fault.At(u.Called(e.Index), err)
			}
		case verdict == plan.Keep && e.Kind == archive.Hardlink:
			if out, is := u.output.(*streamed); is {
				if err := out.passLink(e.Index); err != nil {
					return inner, fault.At(u.Called(e.Index), err)
				}
			}
		}
	}
	return inner, nil
}

// archiveName is what people read of the archive, also when nothing is known of it yet.
func (u *unit) archiveName() string {
	if u.dealings == nil {
		return u.source.Path
	}
	return u.outcome.Archive
}

func (u *unit) name() string {
	if u.inside == nil {
		return u.archive.Name
	}
	return path.Base(u.inside.entry.Path)
}

// Called is what an entry is called where people read of it: of a series, with
// the member that it is in.
func (u *unit) Called(i int) string {
	if member := u.archive.Member(i); member != "" {
		return member + " › " + u.entries[i].Path
	}
	return u.entries[i].Path
}

// Link returns where an entry, a symbolic link, leads to.
func (u *unit) Link(i int) (string, error) {
	if !u.AnyOrder() {
		return u.entries[i].Link, nil
	}
	return u.archive.Link(i)
}

// AnyOrder reports whether data can be read at any time.
func (u *unit) AnyOrder() bool { return u.archive.AnyOrder() }

// salvages reports whether an error only costs what it is about.
func (u *unit) salvages(err error) bool {
	return u.run.Reading.Salvage && fault.Of(err) == fault.Damaged
}

// lose takes note of what could not be had of a damaged archive.
func (u *unit) lose(entry string, err error) {
	u.losing.Lock()
	defer u.losing.Unlock()
	if entry != "" {
		err = fault.At(entry, err)
	}
	u.outcome.Lost = append(u.outcome.Lost, report.Lost{Entry: entry, Err: fault.At(u.outcome.Archive, err)})
}

// Do works on one share.
func (u *unit) Do(share int) (at int, err error) { return u.output.do(share) }

// Finish closes the archive: those that wait for their turn are many.
func (u *unit) Finish() {
	if s, all := u.output.(*staged); all && !u.closed && !s.copiesLinks() {
		u.closed = true
		u.archive.Close() // read only: nothing can be lost
	}
}

// Settle commits what was staged, or clears it away after a failure, and fills in
// the outcome.
func (u *unit) Settle(err error) error {
	if u.output != nil {
		var results []stage.Result
		if err == nil {
			results, err = u.output.commit()
		}
		if err == nil && results != nil {
			err = u.fillIn(results)
			u.outcome.Removed = u.output.gone()
		} else if discarded := u.output.discard(); discarded != nil {
			err = discarded
		}
		slices.SortStableFunc(u.outcome.Lost, func(a, b report.Lost) int { return strings.Compare(a.Entry, b.Entry) })
		u.outcome.Entries, u.outcome.LeftOut, u.outcome.Remarks = u.plan.Entries, u.plan.LeftOut, u.archive.Remarks()
		if u.run.Selection.Dated() {
			u.outcome.Dates = &u.plan.Dates
		}
	}
	if err != u.outcome.Source.Err || u.inside != nil {
		err = fault.At(u.outcome.Archive, err)
	}
	u.close()
	if u.inside == nil && !u.outcome.Done {
		u.outcome.From = u.files
		u.run.anchor(u.outcome.From)
		if u.after != nil {
			u.after.files, u.after.root = u.outcome.From, u.target.Root
		}
	}
	u.outcome.Err = err
	u.outcome.Took = report.Since(u.started)
	u.notePartial()
	u.run.Progress.Archives.Add(1)
	return err
}

// Report reports the outcome, which may be large and is let go of afterwards.
func (u *unit) Report() {
	u.run.tell(u.outcome)
	u.dealings = nil
}

// Drop lets go of a unit that is not brought to its end.
func (u *unit) Drop() {
	u.top.dropped, u.untaken = true, true
	around := u.inside != nil && u.inside.outer.untaken // then nobody may have seen this one
	if u.run.ctx.Err() == nil && !around {
		u.run.dropped++
		u.run.tell(&report.NotTaken{Archive: u.archiveName()})
	}
	u.close() // nothing of it was committed; what is staged goes with the root
	u.dealings = nil
}

// close lets go of the archive, of the one around it, and of the root.
func (u *unit) close() {
	if u.dealings != nil && u.archive != nil && !u.closed {
		u.archive.Close()
	}
	if u.inside != nil {
		u.inside.Close()
	}
	if u.dealings != nil {
		u.archive, u.entries, u.plan, u.output = nil, nil, nil, nil
	}
	u.root.letGo(u.run)
}

// fillIn completes the outcome, and records what is in place where the source may go for it.
func (u *unit) fillIn(results []stage.Result) error {
	root := u.run.absolute(u.target.Root)
	u.outcome.Placed = make([]report.Placed, len(u.plan.Kept))
	for k, i := range u.plan.Kept {
		entry, item, r := &u.entries[i], &u.plan.Items[k], results[k]
		kind := entry.Kind
		if item.Kind == archive.Symlink { // also a second name of one
			kind = archive.Symlink
		}
		u.outcome.Placed[k] = report.Placed{Entry: entry.Path, Path: filepath.Join(root, filepath.FromSlash(r.Path)), Kind: kind,
			Size: entry.Size, Action: r.Action, Summed: entry.HasCRC32 && !u.found[i] || entry.Summed, Member: u.archive.Member(i), Link: item.Link, Spelt: u.plan.Spelt[k], SHA256: u.sums[u.plan.DataOf(u.plan.FirstOf(k))]}
		if r.Mode {
			u.outcome.Modes++
		}
		_, second := u.plan.LinkOf(k)
		if item.Kind == archive.File && !second && (r.Action == stage.Added || r.Action == stage.Replaced) {
			u.outcome.Bytes = archive.Plus(u.outcome.Bytes, entry.Size)
			if entry.SetID {
				u.outcome.SetID++
			}
		}
	}
	if u.top.after == nil || u.run.DryRun {
		return nil
	}
	for _, p := range u.outcome.Placed {
		if p.Kind == archive.Folder || p.Action == stage.Skipped || p.Action == stage.Lost {
			continue
		}
		record, err := disposal.Note(p.Path)
		if err != nil {
			return err
		}
		u.top.after.delivered = append(u.top.after.delivered, record)
	}
	return nil
}
