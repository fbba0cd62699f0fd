package revise

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/create"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

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
	case s.Err() != nil:
		return nil, s.Err()
	case s.Elsewhere():
		return nil, fault.At(s.Path, fault.New(fault.Usage, "what comes from standard input is no file, and what is edited is a file").Advise("save it as a file first"))
	case s.Set() != nil:
		if e.whole, e.Add.Cut, err = cutLike(s.Set()); err != nil {
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
	if s.Set() != nil {
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
	for _, remark := range e.from.Remarks() {
		if remark.Partial {
			return fault.New(fault.Refused, "%s: that would be lost", remark.Text)
		}
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
	out, err := newfile.Sites{}.CreateOver(old)
	if err != nil {
		return err
	}
	w, err := e.format.NewWriter(out, e.Add.Writing)
	if err == nil {
		err = e.fill(w, t, packed)
	}
	if err == nil {
		err = e.leaves(packed)
	}
	if err == nil {
		err = out.Like(e.from.Files[0].Info)
	}
	if err == nil {
		err = e.from.Files[0].Unchanged()
	}
	var size int64
	if err == nil {
		size, err = out.Size()
	}
	if err == nil {
		err = e.readBack(t, func() (blob.Blob, archive.Parts, error) {
			data, err := out.Open()
			return data, nil, err
		})
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	if e.r.Same = e.plan.same(packed); e.r.Same {
		e.r.After = e.r.Before
		return out.Discard()
	}
	e.r.After = size
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
	keeper.Settled()
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

// leaves makes sure that a file is left in the archive, if one was in it: kind fault.NoMatch.
func (e *editing) leaves(packed *report.Created) error {
	p := e.plan
	if p.removed == 0 || p.stay+p.moved+packed.Files > 0 {
		return nil
	}
	return fault.New(fault.NoMatch, "no file would be left in it").Advise("if that is right, remove the archive")
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
		err = e.leaves(packed)
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
