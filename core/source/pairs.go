package source

import (
	"encoding/csv"
	"io"
	"strings"

	"widecrate/core/fault"
)

// A Pair is a source with a destination root of its own.
type Pair struct{ Source, Into string }

// ReadPairs reads rows of two things: CSV (RFC 4180) with commas, semicolons or tabs between
// fields, which may be quoted. A first row with these titles, in any order, says which is
// which; without one they come in this order. Text is decoded as in ReadList.
func ReadPairs(r io.Reader, first, second string) (pairs [][2]string, err error) {
	raw, err := io.ReadAll(r)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	text, err := decodeText(raw, false)
	if err != nil {
		return nil, err
	}
	rows, lines, err := rowsOf(text)
	if err != nil {
		return nil, err
	}
	a, b := 0, 1
	if len(rows) > 0 && titles(rows[0], first, second) {
		if !strings.EqualFold(strings.TrimSpace(rows[0][0]), first) {
			a, b = 1, 0
		}
		rows, lines = rows[1:], lines[1:]
	}
	if len(rows) == 0 {
		return nil, fault.New(fault.Usage, "the list is empty")
	}
	for i, row := range rows {
		if len(row) != 2 || row[0] == "" || row[1] == "" {
			return nil, fault.New(fault.Usage, "line %d is not %s and %s, with a comma, a semicolon or a tab between them: %q", lines[i], first, second, strings.Join(row, ", "))
		}
		pairs = append(pairs, [2]string{row[a], row[b]})
	}
	return pairs, nil
}

func titles(row []string, names ...string) bool {
	if len(row) != len(names) {
		return false
	}
	seen := map[string]bool{}
	for _, title := range row {
		seen[strings.ToLower(strings.TrimSpace(title))] = true
	}
	for _, name := range names {
		if !seen[name] {
			return false
		}
	}
	return true
}

// rowsOf are the rows of a text, and the lines that they begin at: with what stands in each
// of them between two fields, a tab before a comma before a semicolon.
func rowsOf(text string) (rows [][]string, lines []int, err error) {
	for _, comma := range "\t,;" {
		rows, lines, err = parsed(text, comma)
		alike := err == nil
		for _, row := range rows {
			alike = alike && len(row) == 2
		}
		if alike {
			return rows, lines, nil
		}
	}
	if strings.Contains(text, "\t") { // what was probably meant
		return parsed(text, '\t')
	}
	return parsed(text, ',')
}

func parsed(text string, comma rune) (rows [][]string, lines []int, err error) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = comma, -1, true // names may have quotes in them
	for {
		row, err := r.Read()
		switch {
		case err == io.EOF:
			return rows, lines, nil
		case err != nil:
			return nil, nil, fault.New(fault.Usage, "it is no CSV: %w", err)
		}
		line, _ := r.FieldPos(0)
		rows, lines = append(rows, row), append(lines, line)
	}
}
