package show

import (
	"cmp"
	"fmt"

	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/report"
)

// Compared shows what a comparison came to.
func (o *Output) Compared(r *report.Compared) {
	names := make([]string, len(r.Differences))
	for i, d := range r.Differences {
		names[i] = d.Path
	}
	if o.Form == People && !o.Quiet {
		o.differences(r.Differences)
	}
	o.Result(r, names, func(s *Screen) {
		s.Printf("%s%s%s\n", counts(r), unread(r.Unread), left(&r.LeftOut))
	})
}

// unread says of how many files the data was not looked at.
func unread(files int) string {
	if files == 0 {
		return ""
	}
	return fmt.Sprintf("; of %s, stored checksums were compared, and not the data", Count(files, "file"))
}

func counts(r *report.Compared) string {
	text := said("nothing on either side", counted{r.Same, "the same"}, counted{r.Different, "different"}, counted{r.OnlyA, "only in A"}, counted{r.OnlyB, "only in B"})
	for _, side := range [][2]string{{"A", r.PeeledA}, {"B", r.PeeledB}} {
		if side[1] != "" {
			text += fmt.Sprintf("; all of %s lies in %s/, which does not count", side[0], Plain(side[1]))
		}
	}
	return text
}

func (o *Output) differences(differences []report.Difference) {
	path := Column{Short: true}
	for _, d := range differences {
		path.Width = max(path.Width, Width(o.Out.Name(d.Path)))
	}
	t := NewTable(o.Out, Column{Width: len("different")}, path, Column{Text: true})
	for _, d := range differences {
		sizes := Size(*cmp.Or(d.SizeA, d.SizeB))
		if d.What == "size" {
			// To the byte: rounded, they may look the same.
			sizes = Number(*d.SizeA) + " → " + Number(*d.SizeB) + " bytes"
		}
		if d.What != "" {
			sizes = d.What + ", " + sizes
		}
		t.Row(d.Status.String(), o.Out.Name(d.Path), o.Out.Faint(sizes))
	}
}

// Comparisons shows several pairs, a line each, and in the end what they come to.
type Comparisons struct {
	*Output

	Kept     int // files and links
	unread   int // of them
	LeftOut  choose.Tally
	Failures report.Failures // of pairs that could not be compared, or are not the same
	ended    report.CompareEnded
}

// Event takes note of what happened, and shows it.
func (c *Comparisons) Event(e report.Event) {
	r, ok := e.(*report.Compared)
	if !ok {
		c.Output.Event(e)
		return
	}
	c.Kept += r.Same + len(r.Differences)
	c.unread += r.Unread
	c.LeftOut.Add(r.LeftOut)
	status := "same"
	switch {
	case r.Err != nil:
		c.ended.Failed++
		c.Failures.Add(r.Err)
		c.Problem(r.Err)
		c.Output.Event(r)
		return
	case r.Alone():
		c.ended.Alone++
		status = report.OnlyA.String()
		if r.A == "" {
			status = report.OnlyB.String()
		}
	case r.Differ():
		c.ended.Different++
		status = report.Different.String()
	default:
		c.ended.Same++
	}
	var names []string
	if r.Differ() {
		c.Failures.Add(fault.New(fault.Other, "%s and %s are not the same", r.A, r.B))
		names = []string{cmp.Or(r.A, r.B)}
	}
	c.Result(r, names, func(s *Screen) {
		s.Printf("%-9s  %s", status, s.Strong(s.Name(cmp.Or(r.A, r.B))))
		if !r.Alone() {
			s.Printf("  %s: %s", s.Name(r.B), counts(r))
		}
		s.Printf("\n")
	})
	if c.Form == People && c.Verbose && !c.Quiet {
		c.differences(r.Differences)
	}
}

// Finish says what all pairs come to.
func (c *Comparisons) Finish() {
	c.Output.Event(&c.ended)
	if c.Quiet {
		return
	}
	s, n := c.Summary(), c.ended
	s.Printf("%s the same, %s different, %s on one side only%s%s\n", s.Strong(Count(n.Same, "pair")), Number(n.Different), Number(n.Alone), unread(c.unread), left(&c.LeftOut))
	if n.Failed > 0 {
		s.Printf("%s, reported above\n", s.Bad(Count(n.Failed, "pair")+" failed"))
	}
}
