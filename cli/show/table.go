package show

import (
	"strings"

	"github.com/mattn/go-runewidth"
)

// A Column of a Table.
type Column struct {
	Title string
	Width int  // in terminal cells; what is longer moves the rest of its row
	Right bool // aligned to the right
	Short bool // on a terminal that is too narrow, shortened in the middle
}

// A Table prints rows as they come, so that a million of them need no memory:
// the widths are set beforehand.
type Table struct {
	screen  *Screen
	columns []Column
	line    []byte
}

// NewTable prints the titles and returns a table for the rows.
func NewTable(s *Screen, columns ...Column) *Table {
	total := 2 * (len(columns) - 1)
	for i := range columns {
		columns[i].Width = max(columns[i].Width, len(columns[i].Title))
		total += columns[i].Width
	}
	for i := range columns {
		if over := total - s.Width; s.Width > 0 && over > 0 && columns[i].Short {
			shorter := max(columns[i].Width-over, 12)
			total -= columns[i].Width - shorter
			columns[i].Width = shorter
		} else {
			columns[i].Short = false
		}
	}
	t := &Table{screen: s, columns: columns}
	titles := make([]string, len(columns))
	for i, c := range columns {
		titles[i] = c.Title
	}
	s.Printf("%s\n", s.Faint(string(t.format(titles))))
	return t
}

// Row prints one row.
func (t *Table) Row(cells ...string) {
	t.screen.Write(append(t.format(cells), '\n'))
}

func (t *Table) format(cells []string) []byte {
	line := t.line[:0]
	for i, cell := range cells {
		c := t.columns[i]
		width := Width(cell)
		if c.Short && width > c.Width {
			cell = shorten(cell, c.Width)
			width = Width(cell)
		}
		if i > 0 {
			line = append(line, "  "...)
		}
		gap := c.Width - width
		if c.Right {
			line = appendSpaces(line, gap)
		}
		line = append(line, cell...)
		if !c.Right && i < len(cells)-1 {
			line = appendSpaces(line, gap)
		}
	}
	t.line = line
	return line
}

func appendSpaces(line []byte, n int) []byte {
	for ; n > 0; n-- {
		line = append(line, ' ')
	}
	return line
}

// Width is the number of terminal cells that a text takes.
func Width(text string) int {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return runewidth.StringWidth(text)
		}
	}
	return len(text)
}

// shorten leaves out the middle of a text: of a path, both ends tell most.
func shorten(text string, width int) string {
	head := (width - 1) / 3
	start := runewidth.Truncate(text, head, "")
	return start + "…" + strings.TrimSpace(runewidth.TruncateLeft(text, Width(text)-(width-1-head), ""))
}
