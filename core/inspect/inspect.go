// Package inspect looks inside archives without unpacking them.
package inspect

import (
	"context"
	"io"
	"iter"
	"os"
	"path"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/source"
)

// Options is a request to look inside.
type Options struct {
	Sources   []source.Source
	Reading   archive.Options
	Selection *choose.Selection
	Nested    int      // how deep archives inside archives are opened; 0: not
	Archives  []string // inside an archive, what matches one is an archive too
	Limits    bound.Limits
}

// Archive is one archive that was looked into. It is valid only during the call
// of visit that it is passed to.
type Archive struct {
	Path    string // "outer.zip › inner.zip" for one inside another
	Inside  string // its path in the one around it; empty: it is a source
	Depth   int    // how many are around it
	Size    int64  // of the archive itself
	open    *source.Archive
	options *Options
}

// Run opens the sources one after the other, each followed by the archives
// inside it, and calls visit for each, with the error where one cannot be
// opened. It stops when ctx is cancelled or visit fails.
func Run(ctx context.Context, o Options, visit func(*Archive, error) error) error {
	for _, s := range o.Sources {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		a := &Archive{Path: s.Path, options: &o}
		opened, err := s.Open(o.Reading)
		if err != nil {
			if err != s.Err {
				err = fault.At(s.Path, err)
			}
			if err := visit(a, err); err != nil {
				return err
			}
			continue
		}
		if err := a.look(ctx, opened, o.Limits.Budget(opened.Size), visit); err != nil {
			return err
		}
	}
	return nil
}

// look visits an open archive and those inside it, and closes it.
func (a *Archive) look(ctx context.Context, opened *source.Archive, budget *bound.Budget, visit func(*Archive, error) error) error {
	defer opened.Close()
	a.open, a.Size = opened, opened.Size
	entries := opened.Entries()
	err := visit(a, fault.At(a.Path, budget.Count(len(entries))))
	a.options.Selection.Consider(entries)
	for i := 0; i < len(entries) && err == nil; i++ {
		if a.isInner(&entries[i]) {
			err = a.lookInto(ctx, i, budget, visit)
		}
	}
	return err
}

func (a *Archive) lookInto(ctx context.Context, i int, budget *bound.Budget, visit func(*Archive, error) error) error {
	inner := &Archive{Path: a.Path + " › " + a.open.Entries()[i].Path, Inside: a.open.Entries()[i].Path, Depth: a.Depth + 1, options: a.options}
	var spooled string
	defer func() {
		if spooled != "" {
			os.Remove(spooled)
		}
	}()
	through := func(r io.Reader) io.Reader { return budget.Reader(ctx, r) }
	opened, err := a.open.Inner(i, through, func() (*os.File, error) {
		f, err := os.CreateTemp("", "widecrate-")
		if err == nil {
			spooled = f.Name()
		}
		return f, fault.Writing(os.TempDir(), err)
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return visit(inner, fault.At(inner.Path, err))
	}
	return inner.look(ctx, opened, budget, visit)
}

func (a *Archive) isInner(e *archive.Entry) bool {
	return a.Depth < a.options.Nested && e.Kind == archive.File && source.IsArchiveName(path.Base(e.Path), a.options.Archives)
}

// Entries goes through the entries that the selection keeps, in the order of
// the archive, and counts the others in leftOut. Archives that are opened
// themselves are neither.
func (a *Archive) Entries(leftOut *choose.Tally) iter.Seq2[int, *archive.Entry] {
	return func(yield func(int, *archive.Entry) bool) {
		entries := a.open.Entries()
		for i := range entries {
			e := &entries[i]
			if a.isInner(e) {
				continue
			}
			verdict := a.options.Selection.Judge(e)
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
	target, err := archive.LinkTarget(a.open, i)
	return target, fault.At(a.Path, fault.At(a.open.Entries()[i].Path, err))
}
