package show

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
)

// A Column of a Table.
type Column struct {
	Title string
	Width int  // in terminal cells; what is longer moves the rest of its row
	Right bool // aligned to the right
	Short bool // on a terminal that is too narrow, shortened in the middle
	Spare bool // on one that even a short one does not fit on, left out
	Text  bool // the last one: sentences, which go below their row where they do not fit
}

// narrowest is what is left of a column that is shortened.
const narrowest = 5

// A Table prints rows as they come, so that a million of them need no memory:
// the widths are set beforehand. On a terminal, no row is wider than that.
type Table struct {
	screen  *Screen
	columns []Column
	line    []byte
}

// NewTable prints the titles, if there are any, and returns a table for the rows.
func NewTable(s *Screen, columns ...Column) *Table {
	over := 2*(len(columns)-1) - s.Width
	titles := make([]string, len(columns))
	for i := range columns {
		titles[i] = columns[i].Title
		columns[i].Width = max(columns[i].Width, Width(columns[i].Title))
		over += columns[i].Width
	}
	for i, c := range columns {
		if s.Width > 0 && c.Spare && over > c.Width-narrowest {
			over -= c.Width + 2
			columns[i].Width = 0
		}
	}
	for ; s.Width > 0 && over > 0; over-- {
		widest := -1
		for i, c := range columns {
			if c.Short && c.Width > narrowest && (widest < 0 || c.Width > columns[widest].Width) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		columns[widest].Width--
	}
	t := &Table{screen: s, columns: columns}
	if slices.ContainsFunc(titles, func(title string) bool { return title != "" }) {
		s.Printf("%s\n", s.Faint(string(t.fitting(t.format(titles)))))
	}
	return t
}

// left reports whether a column is left out.
func (c Column) left() bool { return c.Spare && c.Width == 0 }

// Width is how wide a column is; 0: it is left out.
func (t *Table) Width(column int) int { return t.columns[column].Width }

// Row prints one row.
func (t *Table) Row(cells ...string) {
	last := len(cells) - 1
	if t.screen.Width == 0 || !t.columns[last].Text || t.before(cells)+Width(cells[last]) <= t.screen.Width {
		t.screen.Write(append(Discreet(t.fitting(t.format(cells))), '\n'))
		return
	}
	t.screen.Write(append(Discreet(t.fitting(t.format(cells[:last]))), '\n'))
	t.screen.Printf("    %s\n", cells[last])
}

// fitting cuts a row where even short columns are too much for the terminal.
func (t *Table) fitting(line []byte) []byte {
	if t.screen.Width == 0 || len(line) <= t.screen.Width || Width(string(line)) <= t.screen.Width {
		return line
	}
	return []byte(runewidth.Truncate(unstyled(string(line)), t.screen.Width, "…"))
}

// before is how wide a row is in front of its last cell.
func (t *Table) before(cells []string) (width int) {
	for i, cell := range cells[:len(cells)-1] {
		if t.columns[i].left() {
			continue
		}
		width += t.columns[i].Width + 2
		if !t.columns[i].Short {
			width += max(0, Width(cell)-t.columns[i].Width)
		}
	}
	return width
}

func (t *Table) format(cells []string) []byte {
	line := t.line[:0]
	for i, cell := range cells {
		c := t.columns[i]
		if c.left() {
			continue
		}
		width := Width(cell)
		if c.Short && width > c.Width && t.screen.Width > 0 {
			cell = shorten(unstyled(cell), c.Width)
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
	if len(cells) > 0 && cells[len(cells)-1] == "" {
		line = bytes.TrimRight(line, " ")
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

// style is what turns colours on and off.
var style = regexp.MustCompile("\x1b\\[[0-9;]*m")

func unstyled(text string) string {
	if strings.IndexByte(text, '\x1b') < 0 {
		return text
	}
	return style.ReplaceAllString(text, "")
}

// Width is the number of terminal cells that a text takes.
func Width(text string) int {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return runewidth.StringWidth(unstyled(text))
		}
	}
	return len(text)
}

// shorten leaves out the middle of a text: of a path, both ends say most.
func shorten(text string, width int) string {
	head := (width - 1) / 3
	start := runewidth.Truncate(text, head, "")
	return start + "…" + strings.TrimSpace(runewidth.TruncateLeft(text, Width(text)-(width-1-head), ""))
}
