package show

import (
	"encoding/csv"

	"widecrate/core/archive"
	"widecrate/core/report"
	"widecrate/core/stage"
)

// Deeds starts a table of what is done, where the form is CSV.
func (o *Output) Deeds() {
	if o.Form == CSV {
		o.Out.Printf("archive,entry,size,path,action\n")
	}
}

// deeds writes the rows of an event: one for each file and link, or for an archive. What it
// cannot write, the flush at the end says.
func (o *Output) deeds(e report.Event) {
	w := csv.NewWriter(o.Out)
	defer w.Flush()
	row := func(cells ...string) { _ = w.Write(cells) }
	whole := func(source string, size int64, path, action string, err error) {
		if err != nil {
			size, path, action = archive.Unknown, "", "failed"
		}
		row(source, "", csvSize(size), path, action)
	}
	switch e := e.(type) {
	case *report.Unpacked:
		for i := range e.Placed {
			if p := &e.Placed[i]; p.Kind != archive.Folder {
				row(e.Archive, p.Entry, csvSize(p.Size), pathOf(p), p.Action.String())
			}
		}
		if e.Err != nil || e.Done {
			whole(e.Archive, archive.Unknown, e.Target, "done before", e.Err)
		}
	case *report.NotTaken:
		whole(e.Archive, archive.Unknown, "", "not taken", nil)
	case *report.Created:
		packedDeeds(e, row)
	case *report.Converted:
		action := "converted"
		if e.Done {
			action = "done before"
		}
		whole(e.Archive, e.Packed, e.Path, action, e.Err)
	case *report.Edited:
		action := "edited"
		if e.Same {
			action = "same"
		}
		whole(e.Source, e.After, e.Archive, action, e.Err)
	}
}

// pathOf is where a file is; empty: nowhere.
func pathOf(p *report.Placed) string {
	if p.Action == stage.Lost {
		return ""
	}
	return p.Path
}

// packedDeeds are the files that were packed, each with the path that it came from.
func packedDeeds(c *report.Created, row func(cells ...string)) {
	action := "packed"
	if c.Done {
		action = "done before"
	}
	for i := range c.Entries {
		e := &c.Entries[i]
		if e.Kind == archive.Folder {
			continue
		}
		from := ""
		if c.From != nil {
			from = c.From[i].Path
		}
		row(c.Archive, e.Path, csvSize(e.Size), from, action)
	}
}
