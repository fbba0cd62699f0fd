package source

import (
	"encoding/csv"
	"io"
	"slices"
	"strings"

	"widecrate/core/fault"
)

// A Pair is a source, and where it goes.
type Pair struct {
	Source string
	To
}

// PairTitles are those of a Pair in CSV: the first two have to be there.
var PairTitles = []string{"source", "into", "ext", "entry", "own-name", "password-env"}

// PairOf is the pair of a row with these titles.
func PairOf(row []string) (p Pair) {
	p.Source, p.Into = row[0], row[1]
	var own Own
	for i, to := range []*string{&own.Ext, &own.Entry, &own.OwnName, &own.PasswordEnv} {
		if i+2 < len(row) {
			*to = row[i+2]
		}
	}
	if own != (Own{}) {
		p.Own = &own
	}
	return p
}

// ReadPairs reads rows of two things, and perhaps more: CSV (RFC 4180) with commas, semicolons
// or tabs between fields, which may be quoted. A first row with some of these titles, the first
// two among them, says which is which; without one, there are two in this order. Each row that is
// returned has a field for each title. Text is decoded as in ReadList.
func ReadPairs(r io.Reader, titles ...string) (pairs [][]string, err error) {
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
	columns := []int{0, 1} // the title of each
	if len(rows) > 0 {
		if of := columnsOf(rows[0], titles); of != nil {
			columns, rows, lines = of, rows[1:], lines[1:]
		}
	}
	if len(rows) == 0 {
		return nil, fault.New(fault.Usage, "the list is empty")
	}
	for i, row := range rows {
		pair := make([]string, len(titles))
		for k := range min(len(row), len(columns)) {
			pair[columns[k]] = row[k]
		}
		if len(row) != len(columns) || pair[0] == "" || pair[1] == "" {
			return nil, fault.New(fault.Usage, "line %d is %q where %s and %s are expected, with a comma, a semicolon or a tab between them", lines[i], strings.Join(row, ", "), titles[0], titles[1]).
				Advise("more fields need a first line with titles: " + strings.Join(titles, ","))
		}
		pairs = append(pairs, pair)
	}
	return pairs, nil
}

// columnsOf are the titles that the fields of a row name, each once, the first two among them;
// nil: it names none.
func columnsOf(row, titles []string) (columns []int) {
	for _, field := range row {
		at := slices.Index(titles, strings.ToLower(strings.TrimSpace(field)))
		if at < 0 || slices.Contains(columns, at) {
			return nil
		}
		columns = append(columns, at)
	}
	if !slices.Contains(columns, 0) || !slices.Contains(columns, 1) {
		return nil
	}
	return columns
}

// rowsOf are the rows of a text, and the lines that they begin at: with what stands in each
// of them between two fields, a tab before a comma before a semicolon.
func rowsOf(text string) (rows [][]string, lines []int, err error) {
	for _, comma := range "\t,;" {
		rows, lines, err = parsed(text, comma)
		alike := err == nil
		for _, row := range rows {
			alike = alike && len(row) == len(rows[0]) && len(row) > 1
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
