package revise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/agnivade/levenshtein"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// A Move is a new path for an entry, or for a folder with all below it.
type Move struct{ Old, New string }

// An Edit is a request to change archives.
type Edit struct {
	Sources  []source.Source
	Add      create.Options // sources, puts, texts and streams; an entry with the path of one of them is replaced
	Remove   []string       // patterns, as in choose.Rules
	Moves    []Move
	Reading  archive.Options
	Limits   bound.Limits
	Workers  int      // 0: one for each processor
	ReadBack bool     // read the new archives again before they appear, and compare them with what was written
	Nested   int      // how deep archives inside archives are changed as well; 0: not
	Archives []string // then, only archives that match one are changed; none: all
	Keep     string   // the folder in which the archives are kept as they were; empty: nowhere
	Halt     bool     // start no further archive after one has failed
	DryRun   bool     // find out what would change, and write nothing
}

// Complete puts what zero values stand for in their place.
func (e *Edit) Complete() {
	if e.Add.Selection == nil {
		e.Add.Selection = new(choose.Selection)
	}
	if e.Workers < 1 {
		e.Workers = source.Workers(e.Sources)
	}
}

// Run changes archives, several at a time, and reports each in the order of the sources: a
// *report.Edited, or in the end a *report.NotTaken where the run halted. A new one takes the
// place of the old one when it is complete. Entries that stay are copied as they are packed;
// where nothing would change, the archive stays. The errors of an archive are of kind
// fault.Refused (a path is taken, an archive in parts), or those of reading and writing; with
// any of them it is as it was. Run itself fails with kind fault.Usage before anything is done
// (nothing to do, a path that is none), and with kind fault.NoMatch where no archive has what
// was to be moved, though none failed.
func (e Edit) Run(ctx context.Context, tell report.Sink) error {
	e.Complete()
	moves, err := e.check()
	if err != nil {
		return err
	}
	streams, err := e.keepStreams()
	if err != nil {
		return err
	}
	defer streams.Close()
	e.Add.Workers = max(1, e.Workers/max(1, len(e.Sources)))
	all := &matches{removed: map[string]bool{}, moved: make([]bool, len(moves))}
	failed := false
	left, err := schedule.Each(ctx, len(e.Sources), schedule.Options{Workers: e.Workers, Halt: e.Halt}, func(i int) (*report.Edited, error) {
		r := &report.Edited{Archive: e.Sources[i].Path, Source: e.Sources[i].Path, DryRun: e.DryRun}
		started := time.Now()
		r.Err = fault.Guard(func() error {
			one := &editing{Edit: e, ctx: ctx, all: all, r: r, moves: moves, again: streams.again}
			one.asked = &editing{Edit: e, moves: moves}
			return one.run(e.Sources[i])
		})
		r.Took = report.Since(started)
		return r, r.Err
	}, func(r *report.Edited) {
		failed = failed || r.Err != nil
		tell(r)
	})
	if err != nil {
		return err
	}
	tell.Left(left, func(i int) string { return e.Sources[i].Path })
	if failed {
		return nil
	}
	return all.missing(e, tell)
}

// check finds what is wrong with what is asked for, and cleans the paths of the moves.
func (e *Edit) check() (moves []Move, err error) {
	for _, m := range e.Moves {
		to, err := place.Clean(m.New)
		if err != nil || to == "." {
			return nil, fault.New(fault.Usage, "%q cannot be a path in an archive", m.New)
		}
		moves = append(moves, Move{path.Clean(m.Old), to})
	}
	if _, err := choose.New(choose.Rules{Drop: e.Remove}); err != nil {
		return nil, err
	}
	add := &e.Add
	if len(add.Sources)+len(add.Puts)+len(add.Texts)+len(add.Streams)+len(e.Remove)+len(e.Moves) == 0 {
		return nil, fault.New(fault.Usage, "there is nothing to change: name what to add, remove or move")
	}
	return moves, nil
}

// kept are streams that several archives get.
type kept struct {
	streams []create.Stream
	data    []blob.Blob // nil: the streams themselves
}

func (e *Edit) keepStreams() (k kept, err error) {
	k.streams = e.Add.Streams
	if len(e.Sources) < 2 && e.Nested == 0 {
		return k, nil
	}
	for _, s := range k.streams {
		data, err := blob.Spool(s.Data, inMemory, nil)
		if err != nil {
			k.Close()
			return k, err
		}
		k.data = append(k.data, data)
	}
	return k, nil
}

func (k *kept) again() []create.Stream {
	if k.data == nil {
		return k.streams
	}
	streams := slices.Clone(k.streams)
	for i := range streams {
		streams[i].Data = io.NewSectionReader(k.data[i], 0, k.data[i].Size())
	}
	return streams
}

func (k *kept) Close() {
	for _, data := range k.data {
		data.Close()
	}
}

// matches say what was found in any of the archives.
type matches struct {
	mu      sync.Mutex
	removed map[string]bool // patterns that removed something
	moved   []bool          // moves that were done, now or before
	nearest string          // to the first that was not
	apart   int
}

func (m *matches) add(p *plan) {
	m.mu.Lock()
	defer m.mu.Unlock()
	spare := p.remove.Unmatched()
	for _, pattern := range p.edit.Remove {
		if !slices.ContainsFunc(spare, func(rule choose.Unmatched) bool { return rule.Text == pattern }) {
			m.removed[pattern] = true
		}
	}
	for i, move := range p.moves {
		m.moved[i] = m.moved[i] || move.done
		if !move.done && move.nearest != "" && (m.nearest == "" || move.apart < m.apart) {
			m.nearest, m.apart = move.nearest, move.apart
		}
	}
}

// missing says what was found in none.
func (m *matches) missing(e Edit, tell report.Sink) error {
	in := "in it"
	if len(e.Sources) > 1 {
		in = "in any of them"
	}
	for _, pattern := range e.Remove {
		if !m.removed[pattern] && len(e.Sources) > 0 {
			tell(report.Notice(fmt.Sprintf("nothing %s matches %q, which was to be removed", in, pattern)))
		}
	}
	for i, done := range m.moved {
		if !done && len(e.Sources) > 0 {
			err := fault.New(fault.NoMatch, "nothing %s has the path %q", in, e.Moves[i].Old)
			if m.nearest != "" && 2*m.apart <= len(e.Moves[i].Old) {
				return err.Advise("the nearest is \"" + m.nearest + "\"")
			}
			return err
		}
	}
	return nil
}

// editing is an archive that is changed.
type editing struct {
	Edit
	ctx   context.Context
	all   *matches
	moves []Move
	r     *report.Edited

	asked *editing               // before anything of it was left out for one archive
	again func() []create.Stream // what is to be added from streams
	name  string                 // of an archive inside another; empty: it is none
	depth int                    // how many are around it
	inner report.Edited          // what was done to those inside

	path     string // of the archive, or the part that stands for it, where no link is in the way
	whole    string // what the parts of a set are cut from; empty: it is none
	from     *walk.Archive
	format   archive.Format
	contents *create.Contents
	plan     *plan
}

func (e *editing) run(s source.Source) error {
	old, err := e.open(s)
	if err != nil {
		return err
	}
	defer old.Release()
	defer e.from.Close()
	err = e.prepare()
	if err == nil {
		err = e.change(old)
	}
	if err != nil && fault.Of(err) != fault.Unwritable { // that says where itself
		err = fault.At(s.Path, err)
	}
	return err
}

// open opens an archive, which nobody else changes until it is released.
func (e *editing) open(s source.Source) (old *disposal.Old, err error) {
	switch {
	case s.Err != nil:
		return nil, s.Err
	case s.Elsewhere():
		return nil, fault.At(s.Path, fault.New(fault.Usage, "it is in no folder, and what is edited is a file"))
	case s.Set != nil:
		if e.whole, e.Add.Cut, err = cutLike(s.Set); err != nil {
			return nil, fault.At(s.Path, err)
		}
	}
	if e.path, err = filepath.EvalSymlinks(s.Path); err == nil { // a link stays one
		e.r.Archive, err = filepath.Abs(e.path)
	}
	if err != nil {
		return nil, fault.Reading(s.Path, err)
	}
	if old, err = disposal.Hold(e.ctx, e.path); err != nil { // another edit of the archive waits, and sees this one
		return nil, err
	}
	from := source.Source{Path: e.path}
	if s.Set != nil {
		from = s
	}
	e.from, err = walk.Open(e.ctx, from, walk.Opening{Options: e.Reading, Limits: e.Limits, Ordered: true})
	if err != nil {
		old.Release()
		return nil, fault.At(s.Path, err)
	}
	return old, nil
}

// prepare finds what is to be added.
func (e *editing) prepare() (err error) {
	if e.format, err = create.FormatOf(cmp.Or(e.name, e.whole, e.path), e.from.Format); err != nil {
		return err
	}
	if e.Add.Streams = e.again(); !e.applies(cmp.Or(e.name, filepath.Base(e.path))) {
		e.leaveAlone()
	}
	if e.format.HoldsOne {
		return fault.New(fault.Usage, "it is one compressed file, and holds nothing to edit")
	}
	if z, ok := e.from.Directory().(*zip.Reader); ok && z.Front() > 0 {
		return fault.New(fault.Refused, "%d bytes stand in front of the archive in it, and would be lost", z.Front())
	}
	e.Add.Format, e.Add.Archive, e.Add.Hash = e.format, e.path, true
	if err := e.Add.Check(); err != nil {
		return err
	}
	if e.contents, err = create.Gather(e.ctx, e.Add); err != nil {
		return err
	}
	e.plan, err = newPlan(&e.Edit, e.moves, e.contents.Paths())
	return err
}

// change writes the new archive, if there is anything new about it.
func (e *editing) change(old *disposal.Old) error {
	e.r.Before = e.from.Size()
	t := e.transfer()
	var packed report.Created
	var err error
	if e.DryRun {
		err = e.foretell(t, &packed)
		e.r.After = e.r.Before
	} else {
		t.gone = e.plan.note
		err = e.write(old, t, &packed)
	}
	if err == nil {
		e.count(&packed)
	}
	return err
}

// foretell finds out what would change.
func (e *editing) foretell(t *transfer, packed *report.Created) error {
	err := t.foretell(e.format)
	if err == nil {
		err = e.ends()
	}
	packed.Files = e.contents.Files()
	return err
}

// count completes what is said of the archive.
func (e *editing) count(packed *report.Created) {
	p, r := e.plan, e.r
	defer func() {
		r.Added, r.Replaced, r.Removed, r.Moved = r.Added+e.inner.Added, r.Replaced+e.inner.Replaced, r.Removed+e.inner.Removed, r.Moved+e.inner.Moved
		r.Stay, r.Locked, r.OnlyRead = r.Stay+e.inner.Stay, r.Locked+e.inner.Locked, e.inner.OnlyRead
	}()
	e.all.add(p)
	r.LeftOut, r.Locked, r.Stay = packed.LeftOut, p.locked, p.stay
	if r.Same {
		r.Stay += p.replaced
		return
	}
	r.Added, r.Replaced, r.Removed, r.Moved = packed.Files-p.replaced, p.replaced, p.removed, p.moved
}

// ends says what is wrong with the whole of it.
func (e *editing) ends() error {
	if err := e.plan.consistent(); err != nil {
		return err
	}
	if len(e.Sources) == 1 && e.name == "" { // then the archive stays as it was
		e.all.add(e.plan)
		return e.all.missing(Edit{Sources: e.Sources, Moves: e.Moves}, nil)
	}
	return nil
}

func (e *editing) write(old *disposal.Old, t *transfer, packed *report.Created) error {
	if e.whole != "" {
		return e.writeSet(old, t, packed)
	}
	out, err := newfile.CreateOver(old)
	if err != nil {
		return err
	}
	w, err := e.format.NewWriter(out, e.Add.Writing)
	if err == nil {
		err = e.fill(w, t, packed)
	}
	if err == nil {
		err = fault.Writing(e.path, out.Chmod(e.from.Files[0].Info.Mode().Perm()))
	}
	if err == nil {
		err = e.from.Files[0].Unchanged()
	}
	var info os.FileInfo
	if err == nil {
		info, err = out.Stat()
	}
	if err == nil {
		err = e.readBack(t, func() (blob.Blob, archive.Parts, error) { return blob.Of(out.File, info.Size()), nil, nil })
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	if e.r.Same = e.plan.same(packed); e.r.Same {
		e.r.After = e.r.Before
		return out.Discard()
	}
	e.r.After = info.Size()
	keeper := disposal.Keeper{Folder: e.Keep}
	if e.Keep != "" {
		kept, err := keeper.Keep(e.path, filepath.Base(e.path))
		if err != nil {
			return errors.Join(err, out.Discard())
		}
		e.r.Made.Kept = map[string]string{e.r.Archive: kept}
	}
	e.from.Close() // no system replaces a file that is open, but for some
	if err = out.Commit(); err != nil {
		keeper.Back()
	}
	return err
}

// fill writes the new archive.
func (e *editing) fill(w archive.Writer, t *transfer, packed *report.Created) error {
	if t.to = w; e.ReadBack {
		t.made = new(made)
	}
	err := t.run()
	if err == nil {
		err = e.ends()
	}
	if err == nil {
		err = e.contents.Pack(w, packed)
	}
	if err != nil {
		w.Abort()
		return err
	}
	return fault.Writing("", w.Close())
}

// readBack reads the new archive again.
func (e *editing) readBack(t *transfer, open func() (blob.Blob, archive.Parts, error)) error {
	if t.made == nil {
		return nil
	}
	o := e.Add
	more := e.contents.Expected()
	e.r.ReadBack = len(t.made.entries) + len(more)
	_, err := t.made.readBack(e.ctx, open, more, &o, false)
	return err
}

// cutLike is the path of the whole of a set, and how it is cut again. One that would get other
// names is of kind fault.Refused.
func cutLike(set *parts.Set) (whole string, how *cut.Options, err error) {
	how = &cut.Options{PartSize: max(set.Parts[0].Size(), 1)}
	if set.Kind == parts.Split {
		how.Style = cut.ZIP
	}
	whole = filepath.Join(filepath.Dir(set.Path()), set.Name)
	elsewhere := func(p parts.Part) bool { return filepath.Dir(p.Path) != filepath.Dir(whole) }
	if how.Names(whole)[0] != filepath.Clean(set.Path()) || slices.ContainsFunc(set.Parts, elsewhere) {
		return "", nil, fault.New(fault.Refused, "it is in parts with names that are only read").
			Advise("join them first with widecrate parts join, and split the result again")
	}
	return whole, how, nil
}

// writeSet is write for a set: its new parts take the place of the old ones together.
func (e *editing) writeSet(old *disposal.Old, t *transfer, packed *report.Created) error {
	o := e.Add
	o.Existing, o.Keep = create.Replace, e.Keep
	out, err := create.NewOutput(e.whole, o)
	if err != nil {
		return err
	}
	w, err := out.Start(e.format, o.Writing)
	if err == nil {
		err = e.fill(w, t, packed)
	}
	if err == nil {
		err = out.Finish(&e.r.Made)
	}
	if err == nil {
		err = e.readBack(t, out.Open)
	}
	for _, f := range e.from.Files {
		if err == nil {
			err = f.Unchanged()
		}
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	if e.r.Same = e.plan.same(packed); e.r.Same {
		e.r.After = e.r.Before
		return out.Discard()
	}
	e.r.After = e.r.Made.Packed
	e.from.Close()
	old.LetGo() // no system replaces a file that is open, but for some
	return o.Commit(out, e.whole, &e.r.Made)
}

// plan decides what becomes of each entry.
type plan struct {
	edit   *Edit
	remove *choose.Selection
	added  map[string]archive.Kind
	moves  []*move
	paths  map[string]bool // all that are taken; true: by a move
	gone   map[string]bool // what was removed or replaced, for links to it
	kinds  map[string]archive.Kind

	was map[string]replaced // what is replaced, by its path

	replaced, removed, moved, stay, locked int // folders do not count

	changed bool // something goes or moves
}

type move struct {
	Move
	done    bool // now, or before
	nearest string
	apart   int
}

func newPlan(e *Edit, moves []Move, added map[string]archive.Kind) (*plan, error) {
	p := &plan{edit: e, added: added, paths: map[string]bool{}, gone: map[string]bool{}, kinds: map[string]archive.Kind{}, was: map[string]replaced{}}
	for _, m := range moves {
		p.moves = append(p.moves, &move{Move: m})
	}
	var err error
	p.remove, err = choose.New(choose.Rules{Drop: e.Remove})
	return p, err
}

// goes is where what has a path now will be, unless something new has that path then.
func (p *plan) goes(at string) string {
	if _, added := p.added[at]; added {
		return at
	}
	for _, m := range p.moves {
		if to, moves := m.of(at); moves {
			return to
		}
	}
	return at
}

// decide says which path an entry gets; empty: it goes.
func (p *plan) decide(_ int, e *archive.Entry) (string, error) {
	at := cleaned(e.Path)
	if e.Encrypted {
		p.locked++
	}
	count := 1
	if e.Kind == archive.Folder {
		count = 0
	}
	if p.remove.Judge(e) == choose.Dropped {
		p.changed = true
		p.removed += count
		p.gone[at] = true
		return "", nil
	}
	to := p.moveOf(at)
	if e.Kind == archive.Hardlink {
		if p.gone[cleaned(e.Link)] {
			return "", fault.At(e.Path, fault.New(fault.Refused, "it is a second name of %s, which would go", e.Link).
				Advise("remove both, or unpack and pack again"))
		}
	}
	if kind, added := p.added[to]; added {
		if kind != archive.Folder && e.Kind == archive.Folder {
			return "", fault.New(fault.Refused, "%s is a folder in the archive, and a file would take its place", to)
		}
		p.replaced += count
		p.gone[at] = true
		return "", nil
	}
	if byMove, taken := p.paths[to]; taken && (byMove || to != at) {
		return "", fault.New(fault.Refused, "two entries would have the path %s", to).Advise("remove one of them, or choose another path")
	}
	p.paths[to] = to != at
	p.kinds[to] = e.Kind
	if to == at {
		p.stay += count
		return e.Path, nil
	}
	p.changed = true
	p.moved += count
	return to, nil
}

// of is what becomes of a path, if it is moved.
func (m *move) of(at string) (to string, moves bool) {
	if at == m.Old {
		return m.New, true
	}
	below, moves := strings.CutPrefix(at, m.Old+"/")
	return m.New + "/" + below, moves
}

// moveOf is the path that an entry has after the moves.
func (p *plan) moveOf(at string) string {
	for _, m := range p.moves {
		if to, moves := m.of(at); moves {
			m.done = true
			return to
		}
		if at == m.New || strings.HasPrefix(at, m.New+"/") {
			m.done = true
		}
		if apart := levenshtein.ComputeDistance(m.Old, at); !m.done && len(p.paths) < 20_000 && (m.nearest == "" || apart < m.apart) {
			m.nearest, m.apart = at, apart
		}
	}
	return at
}

// consistent refuses that something which was added or moved would have to be a folder for
// something else, or lie below what is none: nobody could unpack that.
func (p *plan) consistent() error {
	for at, kind := range p.added {
		p.kinds[at] = kind
	}
	isNew := func(at string) bool {
		_, added := p.added[at]
		return added || p.paths[at]
	}
	for _, at := range slices.Sorted(maps.Keys(p.kinds)) {
		for above := path.Dir(at); above != "."; above = path.Dir(above) {
			if kind, there := p.kinds[above]; there && kind != archive.Folder && (isNew(at) || isNew(above)) {
				return fault.New(fault.Refused, "%s would have to be a folder for %s", above, at).Advise("choose another path, or remove one of them")
			}
		}
	}
	return nil
}
