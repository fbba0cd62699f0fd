package revise

import (
	"io"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/create"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/source"
)

// opens reports whether an entry is an archive in which something may change.
func (t *transfer) opens(e *archive.Entry) bool {
	return t.inside != nil && e.Kind == archive.File && t.isInside(e)
}

// lookInside keeps the data of an entry, and finds its new data; nil: that stays as it is.
func (t *transfer) lookInside(e *archive.Entry, data io.Reader) (kept, changed blob.Blob, err error) {
	if kept, err = blob.Spool(t.meter.Reader(data), inMemory, nil); err == nil {
		changed, err = t.inside(e, kept)
	}
	return kept, changed, err
}

// closeAll closes those that there are.
func closeAll(blobs ...blob.Blob) {
	for _, b := range blobs {
		if b != nil {
			b.Close() // kept for a while: nothing could be lost
		}
	}
}

// changedInZIP adds an entry of a ZIP archive again in which something changes.
func (t *transfer) changedInZIP(i int, e archive.Entry, path string) (is bool, err error) {
	if !t.opens(&e) {
		return false, nil
	}
	data, err := t.from.Data(i)
	if err != nil {
		return false, err
	}
	defer data.Close()
	kept, changed, err := t.lookInside(&e, data)
	defer closeAll(kept, changed)
	if err != nil || changed == nil {
		return false, err
	}
	e.Size = changed.Size()
	return true, t.add(e, path, io.NewSectionReader(changed, 0, e.Size))
}

// applies reports whether the changes are for an archive of this name: where archives inside are
// changed, those that match.
func (e *editing) applies(name string) bool {
	return e.Nested == 0 || len(e.Archives) == 0 || source.IsArchive(name, e.Archives)
}

// leaveAlone takes the changes back for one archive, in which others may be changed.
func (e *editing) leaveAlone() {
	e.moves, e.Remove = nil, nil
	e.Add.Sources, e.Add.Puts, e.Add.Texts, e.Add.Streams = nil, nil, nil, nil
}

// inside changes an archive inside another.
func (e *editing) inside(entry *archive.Entry, data blob.Blob) (changed blob.Blob, err error) {
	from, err := e.from.OpenInside(entry, blob.Of(data, data.Size()))
	if err != nil {
		return nil, err
	}
	defer from.Close()
	in := &editing{Edit: e.asked.Edit, ctx: e.ctx, all: e.all, moves: e.asked.moves, r: &report.Edited{}, path: e.path, name: entry.Path, depth: e.depth + 1, from: from, again: e.again}
	in.asked = e.asked
	if in.format, err = create.FormatOf(entry.Path, from.Format); err != nil {
		if in.applies(entry.Path) {
			e.inner.OnlyRead++
		}
		return nil, nil
	}
	if in.format.HoldsOne { // one compressed file
		return nil, nil
	}
	if !slices.Contains(in.format.Methods, in.Add.Writing.Method) { // that is for the others
		in.Add.Writing.Method = ""
	}
	if err := in.prepare(); err != nil {
		return nil, err
	}
	t := in.transfer()
	var packed report.Created
	if e.DryRun {
		err = in.foretell(t, &packed)
	} else if changed, err = in.spool(t, &packed); err == nil {
		in.r.Same = in.plan.same(&packed)
	}
	if err != nil || in.r.Same {
		closeAll(changed)
		changed = nil
	}
	if err == nil {
		in.count(&packed)
		e.plan.changed = e.plan.changed || changed != nil
		e.inner.Added += in.r.Added
		e.inner.Replaced += in.r.Replaced
		e.inner.Removed += in.r.Removed
		e.inner.Moved += in.r.Moved
		e.inner.Stay += in.r.Stay
		e.inner.Locked += in.r.Locked
		e.inner.OnlyRead += in.r.OnlyRead
	}
	return changed, err
}

// transfer brings the entries over that stay.
func (e *editing) transfer() *transfer {
	t := &transfer{ctx: e.ctx, from: e.from, needsSize: e.format.NeedsSize, decide: e.plan.decide, goes: e.plan.goes, moves: len(e.moves) > 0,
		packed: func(*archive.Entry) bool { return true }, meter: bound.Meter{Context: e.ctx, Budget: e.from.Budget()}}
	if e.depth < e.Nested {
		t.inside = e.inside
		t.isInside = func(entry *archive.Entry) bool { return source.IsArchive(entry.Path, nil) }
	}
	return t
}

// spool writes the new archive into memory, or into a file that goes with the blob.
func (e *editing) spool(t *transfer, packed *report.Created) (blob.Blob, error) {
	if !e.DryRun {
		t.gone = e.plan.note
	}
	from, to := io.Pipe()
	go func() {
		to.CloseWithError(fault.Guard(func() error {
			w, err := e.format.NewWriter(struct{ io.Writer }{to}, e.Add.Writing)
			if err != nil {
				return err
			}
			return e.fill(w, t, packed)
		}))
	}()
	data, err := blob.Spool(from, inMemory, nil)
	from.CloseWithError(err) // where the disk failed, the writer ends
	return data, err
}
