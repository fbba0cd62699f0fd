package show

import (
	"strings"

	"widecrate/core/charset"
	"widecrate/core/inspect"
	"widecrate/core/report"
)

const (
	mostJudged = 100 // names by which encodings are judged
	mostShown  = 4   // of them for people
)

// readings shows what names that do not say their encoding would be in several, where the names
// were read as charset.Raw.
func (c *Listing) readings(a *inspect.Archive, n *report.Listed) error {
	r := &report.Readings{Archive: a.Path, Readings: []charset.Reading{}}
	var raw []string
	seen := map[string]bool{}
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		r.Entries++
		if !charset.InDoubt(e.Path) {
			continue
		}
		r.InDoubt++
		for name := range strings.SplitSeq(e.Path, "/") {
			if len(raw) < mostJudged && charset.InDoubt(name) && !seen[name] {
				seen[name] = true
				raw = append(raw, name)
			}
		}
	}
	if raw != nil {
		r.Readings = append(r.Readings, charset.Readings(raw)...)
	}
	c.Event(r)
	if c.Form != People || c.Quiet {
		return nil
	}
	c.title(a)
	if r.InDoubt == 0 {
		c.Out.Printf("  every name says its encoding, or is the same in all of them\n")
		return nil
	}
	c.Out.Printf("  names that do not say in which encoding they are: %s of %s\n", Number(r.InDoubt), Number(r.Entries))
	if len(r.Readings) == 0 {
		c.Out.Printf("  in none of the usual ones are they text: %s\n", strings.Join(charset.Candidates(), ", "))
		return nil
	}
	in := Column{Title: "  encoding"}
	for _, reading := range r.Readings {
		in.Width = max(in.Width, 2+Width(strings.Join(reading.Encodings, ", ")))
	}
	t := NewTable(c.Out, in, Column{Title: "names", Text: true})
	for _, reading := range r.Readings {
		names := reading.Names[:min(len(reading.Names), mostShown)]
		t.Row("  "+strings.Join(reading.Encodings, ", "), c.Out.Name(strings.Join(names, "  ")))
	}
	return nil
}
