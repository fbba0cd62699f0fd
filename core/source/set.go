package source

import (
	"context"
	"errors"
	"io"
	"os"
	"time"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/parts"
)

func fromSet(set *parts.Set, sub, into string) Source {
	return Source{Path: set.Path(), Sub: sub, Into: into, Set: set, called: set.Name}
}

// setOf returns the set that a file is part of, there or not; nil if it is none.
func (f *finder) setOf(name string, info os.FileInfo) *parts.Set {
	if info != nil && !info.Mode().IsRegular() {
		return nil
	}
	set, err := f.sets.Of(name)
	if err != nil {
		return nil // a folder that cannot be listed: the file is taken for itself
	}
	return set
}

// isArchive reports whether a set in a folder is taken for an archive: it is
// called like one, or its first part starts like one.
func (f *finder) isArchive(set *parts.Set) bool {
	if set.Kind == parts.Split || IsArchiveName(set.Name, f.Archives) || f.inAnySeries(set.Name) {
		return true
	}
	first := &set.Parts[0]
	if first.Info == nil {
		return false
	}
	file, err := os.Open(first.Path)
	if err != nil {
		return true // it will be told
	}
	defer file.Close()
	_, err = format.Identify(file, first.Info.Size())
	return err == nil
}

// await waits for the parts that are still arriving.
func (f *finder) await(ctx context.Context) error {
	if f.Wait <= 0 {
		return nil
	}
	deadline := time.Now().Add(f.Wait)
	for i := range f.found {
		s := &f.found[i]
		if s.Err == nil && s.Set == nil {
			s.Set = parts.OfLast(s.Path)
		}
		if s.Set == nil {
			continue
		}
		path := s.Path
		set, err := parts.Await(ctx, s.Set, deadline, func() (*parts.Set, error) {
			set, err := parts.Of(path, f.PartsIn)
			if set == nil && err == nil {
				set = parts.OfLast(path)
			}
			return set, err
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		*s = fromSet(set, s.Sub, s.Into)
		s.Err = err
	}
	return nil
}

// check finds out what is wrong with a set before any work.
func (s *Source) check() {
	if s.Set != nil && s.Err == nil {
		s.Err = fault.At(s.Path, s.Set.Check())
	}
}

// openSet opens the archive that lies in the parts of a set.
func (s Source) openSet(o archive.Options) (*Archive, error) {
	r := s.Set.Open()
	o.Parts = s.Set.Layout()
	a := &Archive{Size: r.Size(), data: r, rules: o, close: r.Close, set: s.Set}
	for _, p := range s.Set.Parts {
		a.Files = append(a.Files, File{p.Path, p.Info})
	}
	opened, err := a.open()
	if err != nil {
		return nil, a.explain(err)
	}
	if opened.Stream != nil {
		opened.Stream = &explained{opened.Stream, opened}
	}
	return opened, nil
}

// borderSlack is how far behind the border of two parts that do not belong
// together a decoder may notice it: two blocks of the common methods.
const borderSlack = 256 << 10

// explain turns damage into what it is likely to come from in a set. Its error is
// of kind fault.Incomplete where the parts are not the right ones.
func (a *Archive) explain(err error) error {
	if a.set == nil || fault.Of(err) != fault.Damaged {
		return err
	}
	layout := a.rules.Parts
	b, broken := errors.AsType[*archive.Break](err)
	switch {
	case !broken:
		return err
	case b.CutOff:
		return fault.New(fault.Incomplete, "its data goes on behind %s: %w", layout[len(layout)-1].Name, err).
			Advise(a.set.Next() + " is missing, or the last part is not complete")
	}
	i := layout.At(b.Offset)
	if i > 0 && b.Offset-layout[i].Start <= borderSlack {
		return fault.New(fault.Incomplete, "the data breaks %s: %w", layout.Border(i), err).
			Advise("one of the two is damaged, of another set, or in the wrong place")
	}
	return fault.New(fault.Damaged, "the data breaks in part %d (%s): %w", i+1, layout[i].Name, err)
}

// outOfOrder finds, where the first part does not start an archive, another one
// that does.
func (a *Archive) outOfOrder(err error) error {
	if a.set == nil {
		return err
	}
	for i, p := range a.rules.Parts[1:] {
		if f, e := format.Identify(io.NewSectionReader(a.data, p.Start, p.Size), p.Size); e == nil {
			return fault.New(fault.Incomplete, "the first part (%s) does not start an archive, and part %d (%s) starts one (%s)",
				a.rules.Parts[0].Name, i+2, p.Name, f.Name).Advise("put the parts into order, or fetch the set again")
		}
	}
	return err
}

// explained is a stream from the parts of a set.
type explained struct {
	archive.Stream
	a *Archive
}

func (s *explained) Next() (archive.Entry, error) {
	e, err := s.Stream.Next()
	if err != nil && err != io.EOF {
		err = s.a.explain(err)
	}
	return e, err
}

func (s *explained) Read(p []byte) (int, error) {
	n, err := s.Stream.Read(p)
	if err != nil && err != io.EOF {
		err = s.a.explain(err)
	}
	return n, err
}
