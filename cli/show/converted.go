package show

import (
	"strings"
	"time"

	"widecrate/core/choose"
	"widecrate/core/report"
)

// Conversions shows what becomes of archives that are rewritten, and in the end what it comes
// to.
type Conversions struct {
	*Output
	Started time.Time

	Made             []string // the new archives, or the first parts of them
	Files            int
	LeftOut          choose.Tally
	Failures         report.Failures
	copied, repacked int
	bytes            int64
}

// Archive takes note of an archive, and shows it.
func (c *Conversions) Archive(r *report.Converted) {
	if r.Err != nil {
		c.Failures.Add(r.Err)
		c.Problem(r.Err)
		c.Event(r)
		return
	}
	paths := written(r.Path, &r.Made)
	c.Made = append(c.Made, paths[0])
	c.Files += r.Files
	c.copied += r.Copied
	c.repacked += r.Repacked
	c.bytes += r.Packed
	c.LeftOut.Add(r.LeftOut)
	c.Result(r, paths, func(s *Screen) {
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
	if c.Quiet {
		return
	}
	s := c.Summary()
	s.Printf("%s converted: %s in %s, %s; %s; %s\n", s.Strong(Count(len(c.Made), "archive")),
		Count(c.Files, "file"), Size(c.bytes), c.how(), c.LeftOut.String(), Took(time.Since(c.Started)))
	if n := c.Failures.Count(); n > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n, "archive")+" failed"))
	}
}
