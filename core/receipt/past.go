package receipt

import (
	"io"

	"widecrate/core/fault"
	"widecrate/core/report"
)

// A PastRun is what a receipt says of one run.
type PastRun struct {
	*Run
	Number int     // from 1
	Moved  []Moved // sources
	Units  []*Past // in their order
}

// Past is a unit of a run.
type Past struct {
	Unit   Unit
	Undone bool // it was taken back

	entry *entry
}

// Files reads the lines of its files.
func (p *Past) Files() ([]File, error) { return p.entry.rows() }

// Runs are all that delivered something, or tried to, the oldest first.
func (r *Receipts) Runs() (runs []*PastRun, err error) {
	by := map[*Run]*PastRun{}
	ids := map[string]*PastRun{}
	for _, run := range r.order {
		if run.Command != undoing {
			past := &PastRun{Run: run, Number: len(runs) + 1}
			by[run], ids[run.ID] = past, past
			runs = append(runs, past)
		}
	}
	for _, m := range r.moved {
		if run := ids[m.Run]; run != nil {
			run.Moved = append(run.Moved, m)
		}
	}
	for i := range r.units {
		e := &r.units[i]
		run := by[e.run]
		if run == nil {
			continue // its run is not in the receipt
		}
		p := &Past{entry: e, Undone: e.undone}
		if err := e.whole(&p.Unit); err != nil {
			return nil, err
		}
		run.Units = append(run.Units, p)
	}
	return runs, nil
}

// undoing is the command of runs that take others back.
const undoing = "undo"

// whole reads the line of a unit into u: a *Unit, or something with fewer fields.
func (e *entry) whole(u any) error {
	b := make([]byte, e.length)
	if _, err := e.file.ReadAt(b, e.at-e.length); err != nil && err != io.EOF {
		return fault.Reading(e.file.Name(), err)
	}
	if err := report.Unmarshal(b, u); err != nil {
		return senseless(e.file.Name(), err)
	}
	return nil
}
