package report

import (
	"iter"
	"time"
)

// Run is what a receipt says of an earlier run: of one command, or of a job file.
type Run struct {
	Number   int       `json:"run"` // from 1
	Command  string    `json:"command"`
	Started  time.Time `json:"started"`
	Archives int       `json:"archives"` // that did not fail
	Failed   int       `json:"failed,omitempty"`
	Files    int       `json:"files"`            // that were delivered, or written
	Undone   int       `json:"undone,omitempty"` // archives that were taken back since
	Roots    []string  `json:"roots"`            // the folders that it said it would write to, sorted
}

// Lines are one.
func (r *Run) Lines() iter.Seq[Line] { return one(Line{Kind: "run", Fields: r}) }
