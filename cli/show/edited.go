package show

import "widecrate/core/report"

// Edited shows what became of an archive, which is called so; new entries are locked, perhaps.
func (o *Output) Edited(archive string, r *report.Edited, locked bool) {
	for _, pattern := range r.Spare {
		o.Warn("nothing in it matches --remove " + pattern)
	}
	o.Result(r, []string{r.Archive}, func(s *Screen) {
		s.Printf("%s: %s added, %s replaced, %s removed, %s moved, %s as before; %s → %s; %s\n", s.Strong(s.Name(archive)), Number(r.Added),
			Number(r.Replaced), Number(r.Removed), Number(r.Moved), Number(r.Stay), Size(r.Before), Size(r.After), Took(r.Took.Duration))
		if r.LeftOut.LeftOut() > 0 {
			s.Printf("of what was to be added, %s\n", r.LeftOut.String())
		}
		if r.Locked > 0 && !locked && r.Added+r.Replaced > 0 {
			s.Printf("%s in it locked; what was added is not (--encrypt locks it).\n", Count(r.Locked, "entry"))
		}
	})
}
