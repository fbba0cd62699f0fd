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
	bytes, size      int64
}

// Event takes note of what happened, and shows it.
func (c *Conversions) Event(e report.Event) {
	r, ok := e.(*report.Converted)
	if !ok {
		c.Output.Event(e)
		return
	}
	if r.Err != nil {
		c.Failures.Add(r.Err)
		c.Problem(r.Err)
		c.Output.Event(r)
		return
	}
	paths := written(r.Path, &r.Made)
	c.Made = append(c.Made, paths[0])
	c.Files += r.Files
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
	c.Output.Event(&report.Ended{Archives: len(c.Made), Failed: c.Failures.Count(), Files: c.Files, Bytes: c.bytes, LeftOut: c.LeftOut, DryRun: c.DryRun, Took: report.Since(c.Started)})
	if c.Quiet {
		return
	}
	s := c.Summary()
	if c.DryRun {
		s.Printf("%s would be converted: %s, %s; %s\n", s.Strong(Count(len(c.Made), "archive")), Count(c.Files, "file"), Size(c.size), c.LeftOut.String())
	} else {
		c.summary(s)
	}
	if n := c.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n, "archive")+" failed"))
	}
}

func (c *Conversions) summary(s *Screen) {
	s.Printf("%s converted: %s in %s, %s; %s; %s\n", s.Strong(Count(len(c.Made), "archive")),
		Count(c.Files, "file"), Size(c.bytes), c.how(), c.LeftOut.String(), Took(time.Since(c.Started)))
}
