package revise

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/storage"
	"widecrate/core/walk"
)

// A Conversion is a request to rewrite archives.
type Conversion struct {
	walk.Request
	Placement *place.Placement // of which paths are shaped: Into, Flatten, Peel and Rename
	Under     string           // a folder in front of all paths
	Output    create.Options   // format, writing, cut and clash of the new archives
	Read      *atomic.Int64    // counts decoded bytes; nil: nobody asks
	ReadBack  bool             // read the new archives again before they appear, and compare them with what was written
	Prove     bool             // find the SHA-256 of the sources; see report.Converted
	Hash      bool             // find the SHA-256 of what is in them; see report.Converted. Read back they are then, too
	After     disposal.After   // what becomes of sources all of which is in the new archives, which are then read back
	Failed    disposal.After   // what becomes of sources that failed: Keep, or Move
	Begun     time.Time        // this run
	Halt      bool             // start no further archive after one has failed
	DryRun    bool             // find out what would be made, and write nothing

	// Done is the archive that was made of files before, as they are, at a path, and is still
	// there; nil, or of them: there is none.
	Done func(files []blob.File, target string) *report.Earlier

	// BeforeDisposal is called once before sources go, to write down what was done: with an
	// error they stay; nil: nobody asks.
	BeforeDisposal func() error

	taken   []error        // why the place of an archive cannot be taken
	counter *place.Counter // for new names
}

// Complete puts what zero values stand for in their place.
func (c *Conversion) Complete() {
	c.Request.Complete()
	if c.Placement == nil {
		c.Placement = &place.Placement{}
	}
	c.ReadBack = c.ReadBack || c.Hash || c.After.Disposition != disposal.Keep
}

// Run rewrites the archives, several at a time, and reports each in the order of the
// sources: a *report.Converted, then a *report.Disposal for each that was to go, or in the end
// a *report.NotTaken where the run halted. One that fails does not stop the others.
func (c Conversion) Run(ctx context.Context, tell report.Sink) error {
	c.Complete()
	c.counter = new(place.Counter)
	if err := c.Output.Check(); err != nil {
		return err
	}
	if c.Under != "" {
		under, err := place.Clean(c.Under)
		if err != nil {
			return fault.New(fault.Usage, "%q cannot be a folder in an archive: %w", c.Under, err)
		}
		c.Under = under
	}
	targets, err := c.targets()
	if err != nil {
		return err
	}
	if err := c.guard(targets); err != nil {
		return err
	}
	c.Output.Writing.Encode.Workers = max(1, c.Workers/max(1, len(c.Sources)))
	for _, target := range targets {
		if target.path == "" || c.DryRun {
			continue
		}
		discard, err := c.Output.Sites.Ahead(storage.Dir(target.path))
		if err != nil {
			return err
		}
		defer discard()
	}
	if err := source.CheckAfter(c.Sources, c.Begun, &c.After, &c.Failed); err != nil {
		return err
	}
	files := source.Files(ctx, c.Sources, c.Done != nil || c.After.Disposition != disposal.Keep || c.Failed.Disposition != disposal.Keep)
	results := make([]*report.Converted, len(c.Sources))
	left, err := schedule.Each(ctx, len(c.Sources), schedule.Options{Workers: c.Workers, Halt: c.Halt}, func(i int) (*report.Converted, error) {
		r := c.one(ctx, i, files[i], targets[i])
		results[i] = r
		return r, r.Err
	}, func(r *report.Converted) { tell(r) })
	if err == nil {
		c.dispose(ctx, files, results, tell)
		tell.Left(left, func(i int) string { return c.Sources[i].Path })
	}
	return err
}

func (c *Conversion) one(ctx context.Context, i int, files []blob.File, to target) *report.Converted {
	started := time.Now()
	s, taken := c.Sources[i], c.taken[i]
	r := &report.Converted{Archive: s.Path, Path: to.path, From: files, Asked: to.asked, DryRun: c.DryRun, Made: report.Made{Format: c.Output.Format.Name}}
	if r.Err = ctx.Err(); r.Err == nil && c.before(ctx, r) {
		return r
	}
	if r.Err == nil && taken != nil {
		r.Err = fault.At(s.Path, taken)
	}
	if r.Err == nil {
		r.Err = fault.Guard(func() error { return c.convert(ctx, s, to.path, r) })
	}
	if r.Err != nil && r.Err != s.Err() && fault.Of(r.Err) != fault.Unwritable && fault.Of(r.Err) != fault.Refused {
		r.Err = fault.At(s.Path, r.Err)
	}
	r.Took = report.Since(started)
	return r
}

func (c *Conversion) convert(ctx context.Context, s source.Source, target string, r *report.Converted) error {
	if s.Err() == nil && s.Input() != nil && (c.Placement.Rename != nil || !c.Output.Format.Hardlinks) { // such input may have to be gone through twice
		kept, err := walk.KeepInput(ctx, s.Input(), c.Limits.Total)
		if err != nil {
			return err
		}
		defer kept.Close()
		s = source.OfInput(kept)
	}
	opening := c.Opening()
	opening.Whole, opening.Ordered = true, true
	from, err := walk.Open(ctx, s, opening)
	if err != nil {
		return err
	}
	opening.Sums, opening.Fetched = nil, "" // they were checked, and it was kept
	if from.Files != nil {
		r.From = slices.Clone(from.Files)
	}
	defer func() { from.Close() }()
	for i := 0; c.Prove && i < len(r.From); i++ {
		if err := r.From[i].AddSum(ctx); err != nil {
			return err
		}
	}
	paths := &paths{ctx: ctx, c: c, budget: from.Budget(), r: r, merges: s.Members() != nil}
	paths.naming = place.Naming{Archive: place.Stem(s.Name()), From: storage.FolderOf(s.Path), Folder: target, Counter: c.counter}
	if c.Placement.Rename != nil {
		// Counters go by the natural order of all paths.
		if err := paths.list(from); err != nil {
			return err
		}
		if !from.AnyOrder() {
			from.Close()
			if from, err = walk.Open(ctx, s, opening); err != nil {
				return err
			}
		}
	}
	o := c.Output
	o.Archive = target
	if c.DryRun {
		if err := o.Free(target); err != nil {
			return err
		}
		return c.foretell(paths, from)
	}
	out, err := create.NewOutput(target, o)
	if err != nil {
		return err
	}
	if c.ReadBack {
		paths.made = new(made)
	}
	w, err := out.Start(o.Format, o.Writing)
	if err == nil {
		if err = c.fill(w, paths, from, func() (*walk.Archive, error) { return walk.Open(ctx, s, opening) }); err != nil {
			w.Abort()
		} else {
			err = fault.Writing(target, w.Close())
		}
	}
	if err == nil {
		err = out.Finish(&r.Made)
	}
	if err == nil && paths.made != nil {
		r.Entries, r.ReadBack = paths.made.entries, len(paths.made.entries)
		r.Sums, err = paths.made.readBack(ctx, out.Open, nil, &o, c.Hash)
	}
	if err == nil {
		err = from.Unchanged()
	}
	if err == nil {
		err = o.WorthIt(target, &r.Made)
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	if err = o.Commit(out, target, &r.Made); err == nil && c.After.Disposition != disposal.Keep {
		r.There, err = o.Recorded(target, &r.Made)
	}
	return err
}

// transfer brings the entries of an archive into a new one.
func (c *Conversion) transfer(paths *paths, from *walk.Archive) transfer {
	f := c.Output.Format
	return transfer{ctx: paths.ctx, from: from, needsSize: f.NeedsSize, holdsTime: f.HoldsTime, decide: paths.decide, goes: paths.goes,
		moves:  c.Under != "" || c.Placement.Peel > 0 || c.Placement.Flatten || c.Placement.Rename != nil,
		locks:  c.Output.Writing.Password != "",
		meter:  bound.Meter{Context: paths.ctx, Budget: paths.budget, Total: c.Read},
		packed: func(e *archive.Entry) bool { return f.Name == zip.Format.Name && stays(e, c.Output.Writing) }}
}

// foretell finds out what a new archive would hold.
func (c *Conversion) foretell(paths *paths, from *walk.Archive) error {
	t := c.transfer(paths, from)
	if err := t.foretell(c.Output.Format); err != nil {
		return err
	}
	return paths.finish(&t)
}

// fill brings the entries of an archive into a new one.
func (c *Conversion) fill(w archive.Writer, paths *paths, from *walk.Archive, again func() (*walk.Archive, error)) error {
	r, t := paths.r, c.transfer(paths, from)
	t.to, t.made = w, paths.made
	if paths.merges {
		t.came = map[string]content{}
	}
	if from.AnyOrder() {
		from.Foresee(from.Kept(c.Selection))
	}
	err := t.run()
	if err == nil {
		err = t.copiesOfLinks(again)
	}
	if left := paths.finish(&t); err == nil {
		err = left
	}
	r.Passwords = from.Passwords()
	if err == nil {
		r.Copied, r.Repacked, r.Notes = t.notes.packed, t.notes.repacked, t.notes.lost()
		for _, remark := range from.Remarks() {
			if remark.Partial {
				r.Notes = append(r.Notes, remark.Text)
			}
		}
	}
	return err
}

// finish counts what was known to be left out when it came by. Nothing at all is of kind
// fault.NoMatch.
func (p *paths) finish(t *transfer) error {
	r, special := p.r, t.notes.special
	r.Files -= special
	r.LeftOut[choose.Kept] -= special
	r.LeftOut[choose.Special] += special
	if r.Files == 0 && r.LeftOut.LeftOut() > 0 {
		return fault.New(fault.NoMatch, "nothing of it is left to convert")
	}
	return nil
}

// paths gives the entries of one archive their new paths.
type paths struct {
	ctx    context.Context
	c      *Conversion
	naming place.Naming
	budget *bound.Budget
	r      *report.Converted
	known  map[int]string    // all of them, where they depend on each other
	byPath map[string]string // the same, by the old path
	seen   map[string]bool
	made   *made
	merges bool // a series may bring the same more than once
}

// list goes through the archive once to find all paths.
func (p *paths) list(from *walk.Archive) error {
	var kept []*archive.Entry
	var numbers []int
	for e, err := range from.Walk(p.ctx) {
		if err != nil {
			return err
		}
		if p.c.Selection.Judge(e.Entry) == choose.Kept {
			entry := *e.Entry
			kept, numbers = append(kept, &entry), append(numbers, e.Index)
		}
	}
	made, err := p.c.Placement.Paths(kept, p.naming)
	if err != nil {
		return err
	}
	p.known, p.byPath = map[int]string{}, map[string]string{}
	for k, i := range numbers {
		p.known[i], p.byPath[cleaned(kept[k].Path)] = made[k], made[k]
	}
	return nil
}

func (p *paths) decide(i int, e *archive.Entry) (string, error) {
	result := &p.r.Made
	verdict := p.c.Selection.Judge(e)
	if p.c.Selection.Dated() {
		if p.r.Dates == nil {
			p.r.Dates = new(choose.Window)
		}
		p.c.Selection.Note(p.r.Dates, e, verdict)
	}
	to := ""
	if verdict == choose.Kept {
		var err error
		if to, err = p.pathOf(i, e); err != nil {
			return "", err
		}
		if to == place.Peeled && e.Kind != archive.Folder {
			verdict = choose.Pathless
		}
	}
	if e.Kind != archive.Folder {
		result.LeftOut[verdict]++
	}
	if verdict != choose.Kept || to == place.Peeled || to == "." {
		return "", nil
	}
	to = path.Join(p.c.Under, to)
	if p.seen == nil {
		p.seen = map[string]bool{}
	}
	switch again := p.seen[to]; {
	case again && e.Kind == archive.Folder:
		return "", nil
	case again && p.merges: // if it is the same
		return to, nil
	case again:
		return "", twoAt(to)
	}
	p.seen[to] = true
	if e.Kind != archive.Folder {
		result.Files++
		result.Size = archive.Plus(result.Size, e.Size)
	}
	return to, nil
}

func (p *paths) pathOf(i int, e *archive.Entry) (string, error) {
	if p.known != nil {
		return p.known[i], nil
	}
	made, err := p.c.Placement.Paths([]*archive.Entry{e}, p.naming)
	if err != nil {
		return "", err
	}
	return strings.TrimSuffix(made[0], "/"), nil
}

// goes is where what has a path in the old archive will be; empty: nowhere.
func (p *paths) goes(old string) string {
	made := p.byPath[old]
	if p.known == nil {
		one, err := p.c.Placement.Paths([]*archive.Entry{{Path: old}}, p.naming)
		if err != nil {
			return ""
		}
		made = one[0]
	}
	if made == place.Peeled {
		return ""
	}
	return path.Join(p.c.Under, made)
}
