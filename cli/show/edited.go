package show

import (
	"time"

	"widecrate/core/report"
)

// Edits shows what becomes of archives that are changed, and in the end what it comes to.
type Edits struct {
	*Output
	DryRun  bool
	Locked  bool // new entries are
	Single  bool // there is one archive
	Started time.Time

	Failures                        report.Failures
	changed, same                   int
	added, replaced, removed, moved int
	files                           int
	bytes                           int64
}

// Event takes note of what happened, and shows it.
func (d *Edits) Event(e report.Event) {
	r, ok := e.(*report.Edited)
	switch {
	case !ok:
		d.Output.Event(e)
		return
	case r.Err != nil:
		d.Failures.Add(r.Err)
		d.Problem(r.Err)
		d.Output.Event(r)
		return
	case r.Same || r.Added+r.Replaced+r.Removed+r.Moved == 0:
		d.same++
	default:
		d.changed++
	}
	d.files += r.Added + r.Replaced + r.Moved + r.Stay
	d.bytes += r.After
	d.added += r.Added
	d.replaced += r.Replaced
	d.removed += r.Removed
	d.moved += r.Moved
	d.Result(r, []string{r.Archive}, func(s *Screen) { d.archive(s, r) })
}

func (d *Edits) archive(s *Screen, r *report.Edited) {
	name := s.Strong(s.Name(r.Source))
	switch {
	case r.Same:
		s.Printf("%s: nothing changes, %s as before\n", name, Number(r.Stay))
	case r.DryRun:
		s.Printf("%s: %s to add, %s to replace, %s to remove, %s to move, %s stay\n", name, Number(r.Added), Number(r.Replaced),
			Number(r.Removed), Number(r.Moved), Number(r.Stay))
	default:
		s.Printf("%s: %s added, %s replaced, %s removed, %s moved, %s as before; %s → %s; %s\n", name, Number(r.Added),
			Number(r.Replaced), Number(r.Removed), Number(r.Moved), Number(r.Stay), Size(r.Before), Size(r.After), Took(r.Took.Duration))
	}
	if r.LeftOut.LeftOut() > 0 {
		s.Printf("of what was to be added, %s\n", r.LeftOut.String())
	}
	if r.Locked > 0 && !d.Locked && r.Added+r.Replaced > 0 {
		s.Printf("%s in it locked; what was added is not (--encrypt locks it).\n", Count(r.Locked, "entry"))
	}
}

// Finish says what all of it comes to.
func (d *Edits) Finish() {
	d.Output.Event(&report.Ended{Archives: d.changed, Done: d.same, Failed: d.Failures.Count(), Files: d.files, Bytes: d.bytes, DryRun: d.DryRun, Took: report.Since(d.Started)})
	if d.Quiet || d.Single {
		return
	}
	s := d.Summary()
	verb := " edited"
	if d.DryRun {
		verb = " would be edited"
	}
	s.Printf("%s%s, %s as before: %s added, %s replaced, %s removed, %s moved; %s\n", s.Strong(Count(d.changed, "archive")), verb, Number(d.same),
		Number(d.added), Number(d.replaced), Number(d.removed), Number(d.moved), Took(time.Since(d.Started)))
	if n := d.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n, "archive")+" failed"))
	}
}
