package show

import (
	"errors"
	"time"

	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/report"
	"widecrate/core/storage"
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
	label := func(set *report.Set) string { return o.Out.Name(storage.Join(storage.Dir(set.Path), set.Name)) }
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

// Pieces shows what becomes of sets that are joined, or files that are cut, and in the end
// what all of it comes to.
type Pieces struct {
	*Output
	Started time.Time
	DryRun  bool
	Single  bool

	Failures report.Failures
	made     int
	bytes    int64
}

// Event takes note of what happened, and shows it.
func (p *Pieces) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Joined:
		p.piece(e, e.Size, e.Err, []string{e.Path}, func(s *Screen) { joined(s, e) })
	case *report.Split:
		p.piece(e, e.Size, e.Err, written("", &report.Made{Parts: e.Parts, Sums: e.Sums}), func(s *Screen) { split(s, e) })
	default:
		p.Output.Event(e)
	}
}

func (p *Pieces) piece(e report.Event, size int64, err error, names []string, words func(s *Screen)) {
	if err != nil {
		p.Failures.Add(err)
		p.Problem(err)
		p.Output.Event(e)
		return
	}
	p.made++
	p.bytes += size
	p.Result(e, names, words)
}

func joined(s *Screen, r *report.Joined) {
	s.Printf("%s: %s from %s", s.Strong(s.Name(r.Path)), Size(r.Size), Count(r.Parts, "part"))
	if r.DryRun {
		s.Printf(" of %s\n", s.Name(r.Source))
		return
	}
	if r.ZIP {
		s.Printf(", an ordinary ZIP archive now")
	}
	sums := Count(r.Summed, "SHA-256 sum") + " checked"
	switch {
	case r.Summed == 0 && r.Listless:
		sums = "lists of sums are not looked for at addresses; --check-sums names one"
	case r.Summed == 0:
		sums = "there is no list of sums beside the parts"
	}
	s.Printf("; %s; %s\n", sums, Took(r.Took.Duration))
}

func split(s *Screen, r *report.Split) {
	if r.DryRun {
		s.Printf("%s: %s\n", s.Strong(s.Name(r.Source)), Size(r.Size))
		return
	}
	tellParts(s, r.Parts, r.Sums)
	s.Printf("%s written; %s\n", Size(r.Size), Took(r.Took.Duration))
}

// Finish says what all of it comes to.
func (p *Pieces) Finish() {
	p.Output.Event(&report.Ended{Archives: p.made, Failed: p.Failures.Count(), Files: p.made, Bytes: p.bytes, DryRun: p.DryRun, Took: report.Since(p.Started)})
	if p.Quiet || p.Single {
		return
	}
	s, would := p.Summary(), ""
	if p.DryRun {
		would = " would be"
	}
	s.Printf("%s%s made: %s; %s\n", s.Strong(Count(p.made, "result")), would, Size(p.bytes), Took(time.Since(p.Started)))
	if n := p.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Number(n)+" failed"))
	}
}
