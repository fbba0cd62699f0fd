// Package extract unpacks archives: it opens each, plans what is to become of its
// entries, stages their data and commits it. A dry run is the same without the
// data. Archives and the entries of one archive are worked on in parallel; what
// comes out, and in which order it is reported, does not depend on that.
package extract

import (
	"context"
	"hash/maphash"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"

	"widecrate/core/blob"
	"widecrate/core/choose"
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

// Options is a request to extract. Zero values are the usual ones.
type Options struct {
	walk.Request
	Others    []source.Source  // of other shares: their own folders are not those of sources
	Placement *place.Placement // nil: each archive in a folder of its own, beside it
	Rules     stage.Rules
	Links     plan.Links
	After     disposal.After
	Failed    disposal.After // what becomes of sources that failed: Keep, or Move
	Staging   string         // folder for unfinished work; empty: in the destination root
	Halt      bool           // start no further archive after one has failed
	DryRun    bool           // find out what would be done, and write nothing
	Backlog   int64          // bounds the bytes that wait for their turn; 0: 1 GiB
	Progress  *Progress
	Hash      bool              // find the SHA-256 of what is written; see report.Placed
	Prove     bool              // find the SHA-256 of the sources; see report.Unpacked
	Needed    []disposal.Needed // what may not be replaced, nor lie in a folder that is swapped
	Alone     map[string]Alone  // what sources are asked for in place of what all are, by source.Own

	// Done says what was delivered earlier of a source, by its identity and its
	// destination, and is still there: nil if it has to be done. With content, what was
	// delivered has to be the same to the byte. A Done that is nil: nothing was.
	Done func(files []blob.File, target string, content bool) *report.Earlier

	// BeforeDisposal is called when all archives are reported, and before any source
	// is removed or moved; with an error all are kept.
	BeforeDisposal func() error
}

// Complete puts what zero values stand for in their place.
func (o *Options) Complete() {
	o.Request.Complete()
	if o.Placement == nil {
		o.Placement = &place.Placement{}
	}
	if o.Progress == nil {
		o.Progress = &Progress{}
	}
}

// Progress counts what was done so far. It may be read at any time.
type Progress struct {
	Archives, Entries, Bytes atomic.Int64 // settled archives; staged entries and bytes
	Read                     atomic.Int64 // bytes of the sources that were dealt with
	Kept                     atomic.Int64 // bytes of those that have to be there as a whole first
	Expected                 atomic.Int64 // bytes of those at addresses, as far as they are known
}

// run is one call of Run or Stream.
type run struct {
	Options
	ctx     context.Context
	plans   plan.Rules
	alone   map[string]*plan.Rules // of sources that are asked for something else; by source.Own
	sink    report.Sink
	telling sync.Mutex
	long    atomic.Int32             // entries that are being written and are long
	kept    []*unit                  // of the sources, those made so far; nil: nobody asks again
	wrong   map[*source.Source]error // why some are not opened
	roots   roots
	folders map[folder]*source.Source // own folders, each with the first source that has it; nil: nobody asks again
	guard   disposal.Guard            // what stays where folders are swapped
	dropped int                       // archives that were not taken
	folder  string                    // in which the program runs; empty: it is not known
	seeds   [2]maphash.Seed
	output  func(u *unit) output
	route   *disposal.Route            // of sources that go
	latest  map[string]disposal.Record // what was delivered last, by path, once somebody asks
	ordered bool                       // what an archive becomes depends on those before it
}

// Run unpacks the sources, and reports to sink what becomes of them: a
// *report.Unpacked for each archive, in order, a report.NotTaken for each after that
// where it halted, a *report.Disposal for each source
// that is to be removed or moved, in the end, and a report.Notice now and then. A
// source that fails does not stop the others; Run itself fails only when ctx is
// cancelled, and then everything not yet committed has been removed, or with kind
// fault.Usage before anything is done.
func Run(ctx context.Context, o Options, sink report.Sink) error {
	r := newRun(ctx, o, sink)
	if o.Rules.Fresh && (r.Placement.Layout == place.Shared || o.Nested > 0) {
		return fault.New(fault.Usage, "only own folders can be swapped for fresh ones, and not with archives inside archives")
	}
	r.output = func(u *unit) output { return &staged{from: u.opened, unit: u} }
	if o.DryRun {
		r.output = func(u *unit) output { return &foretold{from: u.opened, unit: u} }
	}
	if err := r.refuseElsewhere(); err != nil {
		return err
	}
	if err := r.decide(); err != nil {
		return err
	}
	if err := r.refuseOverlaps(); err != nil {
		return err
	}
	taken := r.beforeHalt()
	r.schedule(taken, r.unit)
	for i := taken; i < len(r.Sources); i++ {
		r.unit(i).Drop()
	}
	if r.dropped > 0 {
		r.tell(report.Stopped(r.dropped))
	}
	if ctx.Err() == nil {
		r.dispose()
	}
	return ctx.Err()
}

// Stream writes the data of the selected files to w, in the order of the
// sources and of their entries, instead of unpacking them. Data goes out as it
// is decoded: an error may come after part of a file.
func Stream(ctx context.Context, o Options, w io.Writer, sink report.Sink) error {
	o.DryRun = true // nothing goes to a disk
	to := receiver{w: w}
	reported := false
	r := newRun(ctx, o, func(e report.Event) {
		if !reported && sink != nil {
			sink(e)
		}
		reported = to.err != nil // a receiver that is gone is reported once
	})
	r.output = func(u *unit) output { return &streamed{from: u.opened, to: &to} }
	for i := range r.Sources {
		u := r.unit(i)
		r.schedule(1, func(int) *unit { return u })
		if to.err != nil || o.Halt && u.failed || ctx.Err() != nil {
			break
		}
	}
	return ctx.Err()
}

// Alone is what sources are asked for in place of what all are; zero values: that.
type Alone struct {
	Selection *choose.Selection
	OwnName   *place.Template
	Passwords []string
}

// rules are those for all, but for these.
func (a Alone) rules(all plan.Rules) *plan.Rules {
	if a.Selection != nil {
		all.Selection = a.Selection
	}
	if a.OwnName != nil {
		placement := *all.Placement
		placement.OwnName = a.OwnName
		all.Placement = &placement
	}
	if a.Passwords != nil {
		all.Reading.Passwords = a.Passwords
	}
	return &all
}

// rulesOf are those for a source.
func (r *run) rulesOf(s *source.Source) *plan.Rules {
	if s.To().Own != nil {
		if rules := r.alone[s.To().Own.String()]; rules != nil {
			return rules
		}
	}
	return &r.plans
}

// newRun prepares a run.
func newRun(ctx context.Context, o Options, sink report.Sink) *run {
	o.Complete()
	if sink == nil {
		sink = func(report.Event) {}
	}
	r := &run{Options: o, ctx: ctx, sink: sink, ordered: o.Placement.Layout != place.Own || o.Nested > 0,
		plans: plan.Rules{Request: o.Request, Placement: o.Placement, Counter: new(place.Counter), Links: o.Links}}
	r.alone = map[string]*plan.Rules{}
	for own, of := range o.Alone {
		r.alone[own] = of.rules(r.plans)
	}
	r.Rules.Needs = &disposal.Needs{Named: o.Needed, Sources: r.eachFile}
	r.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	r.folder, _ = filepath.Abs(".") // empty where that is not known
	r.wrong = map[*source.Source]error{}
	if o.After.Disposition != disposal.Keep || o.Failed.Disposition != disposal.Keep || o.Done != nil && o.Placement.Layout != place.Own {
		r.kept = make([]*unit, len(o.Sources))
	}
	for i := range o.Sources {
		r.roots.expect(r.rootOf(&o.Sources[i]))
	}
	return r
}

// eachFile yields the files of all sources, those that are not taken this time, too.
func (r *run) eachFile(yield func(disposal.Needed)) {
	for _, sources := range [][]source.Source{r.Sources, r.Others} {
		for i := range sources {
			for _, path := range sources[i].OnDisk() {
				yield(disposal.Needed{Path: path, What: "a source"})
			}
		}
	}
}

// schedule works on so many sources.
func (r *run) schedule(sources int, unit func(i int) *unit) {
	o := schedule.Options{Workers: r.Workers, Halt: r.Halt, Backlog: r.Backlog, Ordered: r.ordered || r.Halt} // what comes after a failure is not put into place
	if r.DryRun {                                                                                             // what one archive would bring, the next one meets
		o.Workers, o.Ordered = 1, true
	}
	schedule.Run(r.ctx, o, sources, func(i int) schedule.Unit { return unit(i) })
}

// beforeHalt is how many sources are taken, where the first failure ends the run: no more than
// up to one that is known beforehand to fail.
func (r *run) beforeHalt() (taken int) {
	for r.Halt && taken < len(r.Sources) {
		if taken++; r.errOf(&r.Sources[taken-1]) != nil {
			return taken
		}
	}
	return len(r.Sources)
}

// decide finds out in their order which sources were done earlier, where the later of
// several has the last word about a file: one that is done again would take it, and so
// those after it are done again as well.
func (r *run) decide() error {
	switch {
	case r.Done == nil || r.Placement.Layout == place.Own:
		return nil
	case r.Placement.Counts():
		return fault.New(fault.Usage, "names are counted over all archives, and those that are done would not count").Suggest(fault.NameByArchive)
	case r.Rules.Clash != stage.Replace:
		return nil
	}
	done := r.Done
	r.Done = nil
	for i := range r.Sources {
		u := r.unit(i)
		if !u.isDone(done) {
			break
		}
		u.outcome.Done = true
	}
	return nil
}

// refuseElsewhere refuses what makes no sense for sources that do not lie on disk.
func (r *run) refuseElsewhere() error {
	for i := range r.Sources {
		s := &r.Sources[i]
		switch {
		case notThere(r.Placement.Into) != nil:
			return notThere(r.Placement.Into)
		case notThere(s.To().Into) != nil:
			return notThere(s.To().Into)
		case !s.Elsewhere():
		case r.Placement.Into == "" && s.To().Into == "":
			return fault.At(s.Path, fault.New(fault.Usage, "it lies in no folder on disk that its files could go to, so the destination has to be given").Suggest(fault.NameDestination))
		}
	}
	return source.CheckAfter(r.Sources, r.Placement.Today, &r.After, &r.Failed)
}

// notThere is the error of a destination that is not on disk.
func notThere(into string) error {
	return storage.CheckDisk(into, "files are not unpacked to an address, but to a folder on disk")
}

// tell passes an event on.
func (r *run) tell(e report.Event) {
	r.telling.Lock()
	defer r.telling.Unlock()
	r.sink(e)
}

func (r *run) notice(text string) { r.tell(report.Notice(text)) }

// absolute is a path that does not depend on where the program runs, which is asked
// for once: there may be very many.
func (r *run) absolute(path string) string {
	if r.folder == "" {
		return storage.Absolute(path)
	}
	return storage.In(r.folder, path)
}

// anchor makes the paths of files absolute.
func (r *run) anchor(files []blob.File) {
	for i := range files {
		files[i].Path = r.absolute(files[i].Path)
	}
}
