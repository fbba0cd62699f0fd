package show

import (
	"cmp"

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
		s.Printf("%s the same, %s different, %s only in A, %s only in B; %s\n", s.Strong(Number(r.Same)),
			Number(r.Different), Number(r.OnlyA), Number(r.OnlyB), r.LeftOut.String())
	})
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
