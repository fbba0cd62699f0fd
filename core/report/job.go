package report

import (
	"iter"
	"time"

	"widecrate/core/fault"
)

// JobState is how far a job is.
type JobState string

// The states of jobs.
const (
	JobStarted JobState = "started"
	JobDone    JobState = "done"
	JobFailed  JobState = "failed"
	JobNotRun  JobState = "not run"
)

// Job is a job of a file that starts, or has ended.
type Job struct {
	Name    string
	With    string // the values that it is repeated for
	Command string
	State   JobState
	Err     error // why it failed, or was not run
	Took    time.Duration
}

type job struct {
	Kind    string   `json:"kind"`
	Job     string   `json:"job"`
	With    string   `json:"with,omitempty"`
	Command string   `json:"command"`
	State   JobState `json:"state"`
	Seconds float64  `json:"seconds,omitempty"`
	Failure *Failure `json:"failure,omitempty"`
}

// Lines are one.
func (j *Job) Lines(say fault.Wording) iter.Seq[any] {
	return lines(job{"job", j.Name, j.With, j.Command, j.State, j.Took.Seconds(), FailureOf(j.Err, say)})
}

// Mistake is something wrong in a job file.
type Mistake struct {
	File         string
	Line, Column int
	Why, Do      string
}

type mistake struct {
	Kind   string `json:"kind"`
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Why    string `json:"why"`
	Do     string `json:"do,omitempty"`
}

// Lines are one.
func (m *Mistake) Lines(fault.Wording) iter.Seq[any] {
	return lines(mistake{"mistake", m.File, m.Line, m.Column, m.Why, m.Do})
}
