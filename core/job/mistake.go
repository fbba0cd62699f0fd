package job

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"widecrate/core/fault"
)

// A Place is a line and a column of a file, from 1; columns are characters.
type Place struct{ Line, Column int }

// A Mistake is something wrong in a job file.
type Mistake struct {
	Place
	Why  string
	Do   string // what is probably meant; may be empty
	Text string // of the line
}

// Mark is the line, and below it a caret under the place.
func (m *Mistake) Mark() (line, caret string) {
	line = strings.ReplaceAll(m.Text, "\t", " ")
	before := []rune(line)
	before = before[:min(max(m.Column-1, 0), len(before))]
	return line, strings.Repeat(" ", runewidth.StringWidth(string(before))) + "^"
}

// Mistakes are all that is wrong in a file, in the order of its lines.
type Mistakes struct {
	File string
	List []Mistake
}

func (m *Mistakes) Error() string {
	if len(m.List) == 1 {
		return fmt.Sprintf("line %d, column %d: %s", m.List[0].Line, m.List[0].Column, m.List[0].Why)
	}
	return fmt.Sprintf("%d mistakes", len(m.List))
}

// source is the text of a file, with what was found wrong in it.
type source struct {
	path  string
	lines []string
	found []Mistake
}

// mistake notes one. The same at the same place counts once: a default, or a job that
// is repeated, is looked at again and again.
func (s *source) mistake(at Place, do, format string, args ...any) {
	m := Mistake{Place: at, Why: fmt.Sprintf(format, args...), Do: do}
	if at.Line > 0 && at.Line <= len(s.lines) {
		m.Text = strings.TrimRight(s.lines[at.Line-1], " \t\r")
	}
	if !slices.Contains(s.found, m) {
		s.found = append(s.found, m)
	}
}

// unknown notes a word that is none of those that there are.
func (s *source) unknown(at Place, word string, words []string, format string, args ...any) {
	do := ""
	if nearest := fault.Nearest(word, words); nearest != "" {
		do = "the nearest is " + nearest
	} else if len(words) <= 12 {
		do = "there are " + strings.Join(words, ", ")
	}
	s.mistake(at, do, format, args...)
}

// err is nil where nothing is wrong.
func (s *source) err() error {
	if len(s.found) == 0 {
		return nil
	}
	slices.SortStableFunc(s.found, func(a, b Mistake) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return fault.At(s.path, fault.New(fault.Usage, "%w", &Mistakes{s.path, s.found}))
}

// Mistake notes something that the program finds wrong in a file that was read.
func (f *File) Mistake(at Place, why, do string) { f.source.mistake(at, do, "%s", why) }

// Err has all that is wrong in the file: nil, or of kind fault.Usage with Mistakes.
func (f *File) Err() error { return f.source.err() }
