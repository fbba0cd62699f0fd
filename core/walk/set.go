package walk

import (
	"errors"
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/parts"
)

// openSet opens the archive that lies in the parts of a set.
func openSet(set *parts.Set, o Opening) (*Archive, error) {
	o.Parts = set.Layout()
	a := newArchive(set.Open(), o)
	a.set = set
	return a.openParts()
}

// openParts opens an archive whose data lies in several files.
func (a *Archive) openParts() (*Archive, error) {
	opened, err := a.open()
	if err != nil {
		return nil, a.explain(err)
	}
	if opened.stream != nil {
		opened.stream = &explained{opened.stream, opened}
	}
	return opened, nil
}

// borderSlack is how far after the border of two parts that do not belong
// together a decoder may notice it: two blocks of the common methods.
const borderSlack = 256 << 10

// explain makes of damage in a set its likely cause: of kind fault.Incomplete where the
// parts are not the right ones.
func (a *Archive) explain(err error) error {
	layout := a.rules.Parts
	if layout == nil || fault.Of(err) != fault.Damaged {
		return err
	}
	b, broken := errors.AsType[*archive.Break](err)
	switch {
	case !broken:
		return err
	case b.CutOff:
		next := "another volume"
		if a.set != nil {
			next = a.set.Next()
		}
		return fault.New(fault.Incomplete, "its data goes on behind %s: %w", layout[len(layout)-1].Name, err).
			Advise(next + " is missing, or the last part is not complete")
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

// WriteTo is that of the stream.
func (s *explained) WriteTo(w io.Writer) (int64, error) {
	n, err := archive.Copy(w, s.Stream)
	if err != nil {
		err = s.a.explain(err)
	}
	return n, err
}
