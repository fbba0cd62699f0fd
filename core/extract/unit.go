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
	"widecrate/core/storage"
	"widecrate/core/walk"
)

// unit is one archive on its way; see schedule.Unit. There may be millions: what is only
// needed while one is dealt with comes with begin, and goes when it is reported.
type unit struct {
	run    *run
	top    *unit          // the unit of the source: this one, or one around it
	source *source.Source // the outermost archive
	root   *openRoot
	inside *inside // nil for a source
	err    error   // why the source is not even opened
	*dealings
	after *afterwards // of a source that something becomes of; nil: it stays

	taken   bool
	failed  bool
	dropped bool // the archive, or one inside it
	untaken bool // the archive, or one around it
}

// dealings are the stages of an archive: it is named, then opened, planned, and delivered.
type dealings struct {
	target  place.Target // before the entries decide
	outcome *report.Unpacked
	started time.Time
	files   []blob.File   // of a source
	summed  func()        // waits for their sums; nil: nobody asks for them
	budget  *bound.Budget // of an archive inside another: that of its source
	opened  *opened       // nil until then
	plan    *plan.Plan    // nil until it is opened
	output  output        // the same
}

// afterwards is what has to be known of a source in the end.
type afterwards struct {
	files     []blob.File
	seen      []blob.File // as they were before it was opened; nil: nobody asks
	root      string      // that it went to
	delivered []disposal.Record
	partial   []string // why not all of it was delivered
	some      bool     // some of it was, or lay there already
	lost      bool     // something of it could not be had
	failure   error    // why it failed
}

// partly notes why not all of a source was delivered.
func (u *unit) partly(why string) {
	if u.after != nil {
		u.after.partial = append(u.after.partial, why)
	}
}

// output is where the data of an archive goes: to staging, nowhere in a dry run, or
// out as a stream.
type output interface {
	// pass gets the data of an entry of an archive that comes in order, when it
	// passes by: it is kept, but has no place yet. Where damage is salvaged, the
	// entry is dropped after an error.
	pass(i int, data io.Reader) error
	drop(i int) error

	// begin is called when the plan is complete, and says what is to be done.
	begin(p *plan.Plan) (schedule.Work, error)

	// do works on one share.
	do(share int) (at int, err error)

	// finish is called when all shares are done, before the commit has its turn: it closes
	// the archive, unless that is still needed.
	finish()

	// commit brings it to its end, and discard takes everything back.
	commit() ([]stage.Result, error)
	discard() error

	// changes is, after the commit, what else became of the destination.
	changes() changes
}

// changes are the paths of an earlier run that are no longer there, where the folder is kept that
// had them, and the folders that were made.
type changes struct {
	gone, made []string
	swapped    string
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
	u.outcome.Format = u.opened.archive.Format
	u.plan = plan.New(u.rules(), u.depth(), u.opened)
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
		err = u.plan.Place(u.opened.entries, u.target, u.naming(), u.opened.budget)
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
		if work, err = u.output.begin(u.plan); err != nil {
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

func (u *unit) openArchive() error {
	if u.inside == nil && u.run.Failed.Disposition == disposal.Move {
		u.after.seen, _ = u.source.Files(u.run.ctx) // why there are none, it says itself
	}
	a, err := u.walkIn()
	if err != nil {
		return err
	}
	u.opened = &opened{run: u.run, archive: a, close: sync.OnceFunc(func() { a.Close() }), source: u.inside == nil, budget: u.budget, outcome: u.outcome}
	if u.inside != nil {
		return nil
	}
	u.files = slices.Clone(a.Files) // what is inside looks at these
	if u.run.Prove {
		u.sum()
	}
	u.opened.budget = a.Budget()
	if s := &u.outcome.Source; s.Elsewhere() && s.Size() == 0 { // else it was known before
		u.run.Progress.Expected.Add(a.Expected())
	}
	return u.rename()
}

// sum finds the sums of the files of a source, meanwhile. Where one cannot be found, none is known.
func (u *unit) sum() {
	var done sync.WaitGroup
	for i := range u.files {
		done.Go(func() { _ = u.files[i].AddSum(u.run.ctx) })
	}
	u.summed = done.Wait
}

// rules are those for its source.
func (u *unit) rules() *plan.Rules { return u.run.rulesOf(u.source) }

func (u *unit) walkIn() (*walk.Archive, error) {
	r := u.run
	if u.inside != nil {
		return u.inside.Open(r.ctx, walk.Checked, u.spoolDir)
	}
	o := u.rules().Opening()
	o.Whole, o.Dir, o.Kept = !r.DryRun && r.Nested == 0 && !u.rules().Selection.Picks(), u.spoolDir, &r.Progress.Kept
	if r.Reading.Salvage { // of what is damaged, all is taken that there is
		o.Sums = nil
	}
	return walk.Open(r.ctx, u.outcome.Source, o)
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
	o := u.opened
	if o.AnyOrder() {
		o.entries = o.archive.Entries()
		if err := o.archive.Broken(); err != nil {
			o.lose("", err)
		}
	}
	for e, err := range o.archive.Walk(u.run.ctx) {
		if o.salvages(err) && len(o.entries) > 0 {
			o.lose("", err)
			return inner, nil
		}
		if err != nil {
			return inner, err
		}
		if o.AnyOrder() {
			u.plan.Consider(e.Index, e.Entry)
			continue
		}
		o.entries = append(o.entries, *e.Entry)
		switch verdict := u.plan.Consider(e.Index, e.Entry); {
		case verdict == plan.Open:
			inner = append(inner, e.Inside(u.run.ctx, u.spoolDir))
		case verdict == plan.Keep && e.Kind == archive.File:
			err := u.output.pass(e.Index, e)
			if o.salvages(err) { // a stream does not go on after a break
				u.plan.Forget()
				o.lose(o.Called(e.Index), err)
				return inner, u.output.drop(e.Index)
			}
			if err != nil {
				return inner, fault.At(o.Called(e.Index), err)
			}
		case verdict == plan.Keep && e.Kind == archive.Hardlink:
			if out, is := u.output.(*streamed); is {
				if err := out.passLink(e.Index); err != nil {
					return inner, fault.At(o.Called(e.Index), err)
				}
			}
		}
	}
	return inner, nil
}

// archiveName is the name of the archive for people, also before the archive was begun.
func (u *unit) archiveName() string {
	if u.dealings == nil {
		return u.source.Path
	}
	return u.outcome.Archive
}

func (u *unit) name() string {
	if u.inside == nil {
		return u.opened.archive.Name
	}
	return path.Base(u.inside.entry.Path)
}

// naming is what new names depend on.
func (u *unit) naming() (n place.Naming) {
	if u.run.Placement.Rename == nil {
		return n
	}
	n = place.Naming{Archive: place.Stem(path.Base(u.name())), Folder: u.outcome.Target}
	switch {
	case u.inside == nil:
		n.From = storage.FolderOf(u.source.Path)
	case strings.Contains(u.inside.entry.Path, "/"):
		n.From = path.Base(path.Dir(u.inside.entry.Path))
	case u.inside.outer.inside != nil:
		n.From = place.Stem(path.Base(u.inside.outer.inside.entry.Path))
	default: // which may be closed already
		n.From = place.Stem(u.source.Name())
	}
	return n
}

// Do works on one share.
func (u *unit) Do(share int) (at int, err error) { return u.output.do(share) }

// Finish lets go of what only Do needs.
func (u *unit) Finish() {
	if u.output != nil {
		u.output.finish()
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
			c := u.output.changes()
			u.outcome.Removed, u.outcome.Folders, u.outcome.Swapped = c.gone, c.made, c.swapped
		} else if discarded := u.output.discard(); discarded != nil {
			err = discarded
		}
		slices.SortStableFunc(u.outcome.Lost, func(a, b report.Lost) int { return strings.Compare(a.Entry, b.Entry) })
		u.outcome.Entries, u.outcome.LeftOut, u.outcome.Remarks = u.plan.Entries, u.plan.LeftOut, u.opened.archive.Remarks()
		u.outcome.Passwords = u.opened.archive.Passwords()
		if u.rules().Selection.Dated() {
			u.outcome.Dates = &u.plan.Dates
		}
	}
	if err != u.outcome.Source.Err() || u.inside != nil {
		err = fault.At(u.outcome.Archive, err)
	}
	u.close()
	if u.summed != nil {
		u.summed()
	}
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
	u.close() // nothing was committed; what is staged goes with the root
	if u.dealings != nil && u.summed != nil {
		u.summed()
	}
	u.dealings = nil
}

// close lets go of the archive, of the one around it, and of the root.
func (u *unit) close() {
	if u.dealings != nil && u.opened != nil {
		u.opened.close()
	}
	if u.inside != nil {
		u.inside.Close()
	}
	if u.dealings != nil {
		u.opened, u.plan, u.output = nil, nil, nil
	}
	u.root.letGo(u.run)
}

// fillIn completes the outcome, and records what is in place where the source may go for it.
func (u *unit) fillIn(results []stage.Result) error {
	root, o := u.run.absolute(u.target.Root), u.opened
	u.outcome.Placed = make([]report.Placed, len(u.plan.Kept))
	for k, i := range u.plan.Kept {
		entry, item, r := &o.entries[i], &u.plan.Items[k], results[k]
		kind := entry.Kind
		if item.Kind == archive.Symlink { // also a second name of one
			kind = archive.Symlink
		}
		u.outcome.Placed[k] = report.Placed{Entry: entry.Path, Path: filepath.Join(root, filepath.FromSlash(r.Path)), Kind: kind,
			Size: entry.Size, Action: r.Action, Summed: entry.HasCRC32 && !o.found[i] || entry.Summed, Member: o.archive.Member(i), Link: item.Link, Spelt: u.plan.Spelt[k], Kept: r.Kept, SHA256: o.sums[u.plan.DataOf(u.plan.FirstOf(k))]}
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
		record, err := disposal.Note(storage.Sites{}, p.Path)
		if err != nil {
			return err
		}
		u.top.after.delivered = append(u.top.after.delivered, record)
	}
	return nil
}
