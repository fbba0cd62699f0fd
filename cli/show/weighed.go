package show

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widecrate/core/report"
)

// Weighed shows what several ways of packing came to.
func (o *Output) Weighed(r *report.Weighed) {
	if o.Form == People && !o.Quiet {
		o.ways(r)
	}
	var names []string
	for _, w := range slices.SortedStableFunc(slices.Values(r.Ways), func(a, b report.Way) int { return cmp.Compare(a.Size, b.Size) }) {
		names = append(names, w.Name)
	}
	o.Result(r, names, func(s *Screen) { o.sampled(s, r) })
}

// longestBar is how long a bar is where the terminal has room for it.
const longestBar = 30

func (o *Output) ways(r *report.Weighed) {
	name, best := Column{Title: "way"}, Column{}
	var largest int64
	for _, m := range r.Ways {
		name.Width = max(name.Width, Width(m.Name))
		best.Width = max(best.Width, Width(strings.Join(m.Best, ", ")))
		largest = max(largest, m.Estimate)
	}
	size := Column{Title: "size", Width: 9, Right: true}
	if r.Packed < r.Size {
		size.Title = "estimate"
	}
	t := NewTable(o.Out, name, size, Column{Title: "saved", Right: true}, Column{Title: "CPU time", Width: 8, Right: true},
		Column{Title: "speed", Width: 10, Right: true}, Column{Width: longestBar, Short: true, Spare: true}, best)
	longest := t.Width(5)
	for i := range r.Ways {
		m := &r.Ways[i]
		t.Row(m.Name, Size(m.Estimate), Saved(r.Size, m.Estimate), seconds(m.Took.Duration), Size(int64(float64(r.Packed)/m.Took.Seconds()))+"/s",
			bar(m.Estimate, largest, longest), o.Out.Good(strings.Join(m.Best, ", ")))
	}
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f s", d.Seconds()) }

// bar is a bar of half cells.
func bar(value, largest int64, longest int) string {
	halves := int(float64(value)/float64(max(largest, 1))*float64(2*longest) + 0.5)
	return strings.Repeat("━", halves/2) + strings.Repeat("╸", halves%2)
}

func (o *Output) sampled(s *Screen, r *report.Weighed) {
	if r.Archives > 0 {
		s.Printf("What is in %s was weighed, and not the archives as they lie (--as-files).\n", Count(r.Archives, "archive"))
	}
	if r.Closed > 0 {
		s.Printf("%s could not be looked into: weighed as files.\n", s.Bad(Count(r.Closed, "archive")))
	}
	if r.Packed == r.Size {
		s.Printf("All of %s, %s, packed in memory; times are without the disk.\n", Count(r.Files, "file"), Size(r.Size))
		return
	}
	off := "several times too small or too large: the pieces are too different"
	if r.Off < 1 {
		off = fmt.Sprintf("%.0f %% off", 100*r.Off)
	}
	s.Printf("%s of %s from %s of %s were packed, in memory. The sizes are estimates for everything: they may be %s.\n",
		Size(r.Packed), Size(r.Size), Number(r.Sampled), Count(r.Files, "file"), off)
}
