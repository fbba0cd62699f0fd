package show

import (
	"errors"
	"path/filepath"

	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/report"
)

// Sets shows sets that were found, and checked against lists of sums, perhaps.
func (o *Output) Sets(sets []*report.Set, summed bool) {
	bad, sums := 0, 0
	for _, set := range sets {
		o.Event(set)
		sums += set.Summed
		if set.Err != nil {
			bad++
			if o.Form == Names {
				o.Name(set.Path)
			}
		}
	}
	if o.Quiet {
		return
	}
	if o.Form == People && len(sets) > 0 {
		o.table(sets)
	}
	s := o.Summary()
	s.Printf("%s", s.Strong(Count(len(sets), "set")))
	if summed {
		s.Printf(", %s checked", Count(sums, "SHA-256 sum"))
	}
	if bad > 0 {
		s.Printf(", %s", s.Bad(Number(bad)+" not complete"))
	}
	s.Printf("\n")
}

func (o *Output) table(sets []*report.Set) {
	name := Column{Title: "set", Short: true}
	label := func(set *report.Set) string { return o.Out.Name(filepath.Join(filepath.Dir(set.Path), set.Name)) }
	for _, set := range sets {
		name.Width = max(name.Width, Width(label(set)))
	}
	t := NewTable(o.Out, name, Column{Title: "kind", Width: 9}, Column{Title: "parts", Width: 8, Right: true},
		Column{Title: "size", Width: 9, Right: true}, Column{Title: "complete", Text: true})
	for _, set := range sets {
		state := o.Out.Good("yes")
		switch {
		case set.Missing != nil:
			state = o.Out.Bad("no") + ": missing " + o.Out.Name(parts.Shorten(set.Missing))
		case set.Err != nil:
			state = o.Out.Bad("no") + ": " + o.Out.Name(why(set.Err))
		case set.Open:
			state = "yes, unless more follow: the last part is as large as the others"
		}
		t.Row(label(set), set.Type, Number(set.Found())+" of "+Number(set.Expected), Size(set.Size), state)
	}
}

// why is an error without the place, which stands beside it.
func why(err error) string {
	if e, ok := errors.AsType[*fault.Error](err); ok {
		return e.Err.Error()
	}
	return err.Error()
}

// Joined shows a file that was put together from a set.
func (o *Output) Joined(r *report.Joined, j cut.Joined, set *parts.Set) {
	o.Result(r, []string{r.Path}, func(s *Screen) {
		s.Printf("%s: %s from %s", s.Strong(s.Name(j.Path)), Size(j.Size), Count(r.Parts, "part"))
		if j.Zip {
			s.Printf(", an ordinary ZIP archive now")
		}
		sums := Count(j.Summed, "SHA-256 sum") + " checked"
		switch {
		case j.Summed == 0 && set.Elsewhere():
			sums = "lists of sums are not looked for at addresses; --check-sums names one"
		case j.Summed == 0:
			sums = "there is no list of sums beside the parts"
		}
		s.Printf("; %s; %s\n", sums, Took(r.Took.Duration))
	})
}

// Split shows a set that was made of a file.
func (o *Output) Split(r *report.Split) {
	o.Result(r, written("", &report.Made{Parts: r.Parts, Sums: r.Sums}), func(s *Screen) {
		tellParts(s, r.Parts, r.Sums)
		s.Printf("%s written; %s\n", Size(r.Size), Took(r.Took.Duration))
	})
}
