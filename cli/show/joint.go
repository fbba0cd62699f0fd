package show

import (
	"widecrate/core/archive"
	"widecrate/core/inspect"
	"widecrate/core/report"
)

// jointTable lists what is selected of many archives, with the archive as the first column.
type jointTable struct {
	rows  [][]string
	table *Table // nil: no row was printed
}

// mostRows are held until the widths of the columns are decided.
const mostRows = 10_000

// jointly adds what is selected of an archive.
func (c *Listing) jointly(a *inspect.Archive, n *report.Listed) error {
	j := &c.joint
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		row := []string{c.Out.Name(a.Path), c.pathOf(e), "", "", "", "", note(e)}
		if e.Kind == archive.File {
			row[2] = Size(e.Size)
			if e.Packed != archive.Unknown {
				row[3], row[4] = Size(e.Packed), Saved(e.Size, e.Packed)
			}
		}
		if !e.Modified.IsZero() {
			row[5] = e.Modified.Local().Format(minute)
		}
		if j.rows = append(j.rows, row); len(j.rows) == mostRows {
			j.flush(c)
		}
	}
	return nil
}

// flush prints the rows that are held.
func (j *jointTable) flush(c *Listing) {
	if j.rows == nil {
		return
	}
	if j.table == nil {
		archive, path := Column{Title: "archive", Short: true}, Column{Title: "path", Short: true}
		last := Column{}
		for _, row := range j.rows {
			archive.Width, path.Width = max(archive.Width, Width(row[0])), max(path.Width, Width(row[1]))
			if row[6] != "" {
				last.Title = "note"
			}
		}
		j.table = NewTable(c.Out, archive, path, Column{Title: "size", Width: 9, Right: true}, Column{Title: "packed", Width: 9, Right: true},
			Column{Title: "saved", Width: 5, Right: true}, Column{Title: "modified", Width: len(minute)}, last)
	}
	for _, row := range j.rows {
		j.table.Row(row...)
	}
	j.rows = nil
}

// archives prints the path of an archive that something is selected of.
func (c *Listing) archives(a *inspect.Archive, n *report.Listed) error {
	for _, e := range a.Entries(&n.LeftOut) {
		n.Count(e)
	}
	if n.Files > 0 {
		c.Name(a.Path)
	}
	return nil
}
