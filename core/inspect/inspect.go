// Package inspect looks inside archives without unpacking them.
package inspect

import (
	"context"
	"iter"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/source"
)

// Archive is one source that was looked into. It is valid only during the call
// of visit that it is passed to.
type Archive struct {
	Source    source.Source
	Size      int64 // of the archive itself
	reader    archive.Reader
	selection *choose.Selection
}

// Run opens the sources one after the other and calls visit for each, with the
// error where one cannot be opened. It stops when ctx is cancelled or visit
// fails.
func Run(ctx context.Context, sources []source.Source, selection *choose.Selection, visit func(*Archive, error) error) error {
	for _, s := range sources {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := open(s, selection, visit); err != nil {
			return err
		}
	}
	return nil
}

func open(s source.Source, selection *choose.Selection, visit func(*Archive, error) error) error {
	a := &Archive{Source: s, selection: selection}
	if s.Err != nil {
		return visit(a, s.Err)
	}
	f, err := s.Open()
	if err != nil {
		return visit(a, fault.At(s.Path, err))
	}
	defer f.Close()
	a.Size = f.Size
	if a.reader, err = format.Open(f, f.Size); err != nil {
		return visit(a, fault.At(s.Path, err))
	}
	defer a.reader.Close()
	return visit(a, nil)
}

// Entries goes through the entries that the selection keeps, in the order of
// the archive, and counts the others in leftOut.
func (a *Archive) Entries(leftOut *choose.Tally) iter.Seq2[int, *archive.Entry] {
	return func(yield func(int, *archive.Entry) bool) {
		entries := a.reader.Entries()
		for i := range entries {
			e := &entries[i]
			verdict := a.selection.Judge(e)
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

// Link returns where the i-th entry, a link, points to.
func (a *Archive) Link(i int) (string, error) {
	target, err := archive.LinkTarget(a.reader, i)
	return target, fault.At(a.Source.Path, fault.At(a.reader.Entries()[i].Path, err))
}
