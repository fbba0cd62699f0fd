package show

import (
	"strings"
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
	did := d.did(r.Added, r.Replaced, r.Removed, r.Moved)
	s.Printf("%s: %s, %s as before", s.Strong(s.Name(r.Source)), did, Number(r.Stay))
	if !r.Same && !r.DryRun {
		s.Printf("; %s → %s; %s", Size(r.Before), Size(r.After), Took(r.Took.Duration))
		if r.ReadBack > 0 {
			s.Printf("; %s read back", Count(r.ReadBack, "entry"))
		}
	}
	s.Printf("\n")
	if r.OnlyRead > 0 {
		s.Printf("not changed, in formats that are only read: %s in it\n", Count(r.OnlyRead, "archive"))
	}
	if r.LeftOut.LeftOut() > 0 {
		s.Printf("of what was to be added, %s\n", r.LeftOut.String())
	}
	if r.Locked > 0 && !d.Locked && r.Added+r.Replaced > 0 {
		s.Printf("%s in it locked; what was added is not (--encrypt locks it).\n", Count(r.Locked, "entry"))
	}
}

// did says what is done to entries.
func (d *Edits) did(added, replaced, removed, moved int) string {
	verbs := [4]string{"added", "replaced", "removed", "moved"}
	if d.DryRun {
		verbs = [4]string{"to add", "to replace", "to remove", "to move"}
	}
	return said("nothing changes", counted{added, verbs[0]}, counted{replaced, verbs[1]}, counted{removed, verbs[2]}, counted{moved, verbs[3]})
}

// counted is how many are what.
type counted struct {
	n    int
	what string
}

// said are the counts that are not zero; none if all are.
func said(none string, counts ...counted) string {
	var all []string
	for _, c := range counts {
		if c.n > 0 {
			all = append(all, Number(c.n)+" "+c.what)
		}
	}
	if all == nil {
		return none
	}
	return strings.Join(all, ", ")
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
	s.Printf("%s%s, %s as before: %s; %s\n", s.Strong(Count(d.changed, "archive")), verb, Number(d.same),
		d.did(d.added, d.replaced, d.removed, d.moved), Took(time.Since(d.Started)))
	if n := d.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n, "archive")+" failed"))
	}
}
