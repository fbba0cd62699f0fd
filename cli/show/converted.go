package show

import (
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/report"
)

// Conversions shows what becomes of archives that are rewritten, and in the end what it comes
// to.
type Conversions struct {
	*Output
	Started time.Time
	DryRun  bool

	Made             []string // the new archives, or the first parts of them
	Files            int
	LeftOut          choose.Tally
	Failures         report.Failures
	copied, repacked int
	done, readBack   int // archives; entries
	bytes, size      int64
	sources          disposals
}

// Event takes note of what happened, and shows it.
func (c *Conversions) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Converted:
		if e.Err == nil {
			c.converted(e)
			return
		}
		c.note(e.Err)
	case *report.Disposal:
		c.sources.add(e)
		c.note(e.Err)
	}
	c.Output.Event(e)
}

// note takes note of a failure, if it is one, and shows it.
func (c *Conversions) note(err error) {
	if err != nil {
		c.Failures.Add(err)
		c.Problem(err)
	}
}

func (c *Conversions) converted(r *report.Converted) {
	paths := written(r.Path, &r.Made)
	c.Files += r.Files
	if r.Done {
		c.done++
		c.Result(r, paths, func(s *Screen) {
			s.Printf("%s → %s: done before\n", s.Name(r.Archive), s.Name(r.Path))
		})
		return
	}
	c.Made = append(c.Made, paths[0])
	c.readBack += r.ReadBack
	c.copied += r.Copied
	c.repacked += r.Repacked
	c.bytes += r.Packed
	c.size = archive.Plus(c.size, r.Size)
	c.LeftOut.Add(r.LeftOut)
	c.Result(r, paths, func(s *Screen) {
		if r.DryRun {
			s.Printf("%s → %s: %s, %s\n", s.Name(r.Archive), s.Strong(s.Name(r.Path)), Count(r.Files, "file"), Size(r.Size))
			return
		}
		s.Printf("%s → %s, %s\n", s.Name(r.Archive), s.Strong(s.Name(r.Path)), Size(r.Packed))
		if len(r.Notes) > 0 {
			s.Printf("  %s\n", strings.Join(r.Notes, "; "))
		}
	})
}

// how says whether entries had to be decoded.
func (c *Conversions) how() string {
	switch {
	case c.copied+c.repacked == 0:
		return "nothing to pack"
	case c.repacked == 0:
		return "copied as they were packed"
	case c.copied == 0:
		return "packed again"
	}
	return Count(c.copied, "entry") + " copied as packed and " + Number(c.repacked) + " packed again"
}

// Finish says what all of it comes to.
func (c *Conversions) Finish() {
	c.Output.Event(&report.Ended{Archives: len(c.Made), Done: c.done, Failed: c.Failures.Count(), Files: c.Files, Bytes: c.bytes, LeftOut: c.LeftOut, DryRun: c.DryRun, Took: report.Since(c.Started)})
	if c.Quiet {
		return
	}
	s := c.Summary()
	c.sources.tell(s, c.DryRun)
	if c.DryRun {
		s.Printf("%s would be converted: %s, %s%s\n", s.Strong(Count(len(c.Made), "archive")), Count(c.Files, "file"), Size(c.size), left(&c.LeftOut))
	} else {
		c.summary(s)
	}
	if n := c.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n, "archive")+" failed"))
	}
}

func (c *Conversions) summary(s *Screen) {
	before := ""
	if c.done > 0 {
		before = ", " + Number(c.done) + " done before"
	}
	s.Printf("%s converted%s: %s in %s, %s%s; %s\n", s.Strong(Count(len(c.Made), "archive")), before,
		Count(c.Files, "file"), Size(c.bytes), c.how(), left(&c.LeftOut), Took(time.Since(c.Started)))
	if c.readBack > 0 {
		s.Printf("%s read back, folders too: each is as it was written\n", Count(c.readBack, "entry"))
	}
}
