package receipt

import (
	"io"
	"os"
	"slices"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// A PastRun is what a receipt says of one run.
type PastRun struct {
	Number   int            // from 1
	Commands []*PastCommand // in their order: one, but those of the jobs of a job file
}

// PastCommand is what a receipt says of one command of a run.
type PastCommand struct {
	*Run
	Moved []Moved // sources
	Units []*Past // in their order
}

// Past is a unit of a run.
type Past struct {
	Unit     Unit
	Undone   bool // it was taken back
	Complete bool // the lines of all its files are there

	entry *entry
}

// Files reads the lines of its files.
func (p *Past) Files() ([]File, error) { return p.entry.rows() }

// Report is what it comes to.
func (r *PastRun) Report() *report.Run {
	first := r.Commands[0]
	out := &report.Run{Number: r.Number, Command: first.Command, Started: first.Started}
	if first.Job != "" {
		out.Command = "run"
	}
	for _, c := range r.Commands {
		out.Roots = append(out.Roots, c.Roots...)
		for _, p := range c.Units {
			if p.Unit.Failure != nil {
				out.Failed++
				continue
			}
			if out.Archives++; p.Undone {
				out.Undone++
			}
			if p.Unit.Parts != nil {
				out.Files += len(p.Unit.Parts)
			} else {
				out.Files += p.Unit.Files
			}
		}
	}
	slices.Sort(out.Roots)
	out.Roots = slices.Compact(out.Roots)
	return out
}

// Runs are all that delivered something, or tried to, the oldest first.
func (r *Receipts) Runs() (runs []*PastRun, err error) {
	by := map[*Run]*PastCommand{}
	ids := map[string]*PastCommand{}
	jobs := map[string]*PastRun{}
	for _, run := range r.order {
		if run.Command == undoing {
			continue
		}
		c := &PastCommand{Run: run}
		by[run], ids[run.ID] = c, c
		past := jobs[run.Job]
		if past == nil || run.Job == "" {
			past = &PastRun{Number: len(runs) + 1}
			jobs[run.Job] = past
			runs = append(runs, past)
		}
		past.Commands = append(past.Commands, c)
	}
	for _, m := range r.moved {
		if c := ids[m.Run]; c != nil {
			c.Moved = append(c.Moved, m)
		}
	}
	for i := range r.units {
		e := &r.units[i]
		c := by[e.run]
		if c == nil {
			continue // its run is not in the receipt
		}
		p := &Past{entry: e, Undone: e.undone, Complete: e.complete}
		if err := e.whole(&p.Unit); err != nil {
			return nil, err
		}
		c.Units = append(c.Units, p)
	}
	return runs, nil
}

// CheckOwn makes sure that only who runs can have written a receipt, as far as the place keeps such rights: it is as
// powerful as its owner, for what it says is removed. One that others may write to is of kind fault.Refused.
func CheckOwn(sites storage.Sites, path string) error {
	info, err := sites.Stat(path)
	if err == nil && !storage.IsFar(info) && folder.OthersWrite(info) && !keepsNoRights(sites, path, info) {
		return fault.At(path, fault.New(fault.Refused, "others may write to it, or it belongs to another user, and what it says would be removed").
			Advise("look through it; then take back a copy of your own that only you may write to"))
	}
	return fault.Reading(path, err)
}

// keepsNoRights reports whether the file system shows a file that this run makes beside another with the same owner and
// rights: it keeps neither.
func keepsNoRights(sites storage.Sites, path string, info os.FileInfo) bool {
	dir, err := sites.Open(storage.Dir(path))
	if err != nil {
		return false
	}
	defer dir.Close()
	made, err := claim.Sample(dir)
	return err == nil && folder.Private(info, made)
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
