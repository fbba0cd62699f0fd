package report

import "iter"

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
	Name    string   `json:"job"`
	With    string   `json:"with,omitempty"` // the values that it is repeated for
	Command string   `json:"command"`
	State   JobState `json:"state"`
	Took    Took     `json:"seconds,omitzero"`
	Err     error    `json:"-"` // why it failed, or was not run
}

// Title is the name, with the values that the job is repeated for.
func (j *Job) Title() string {
	if j.With == "" {
		return j.Name
	}
	return j.Name + " (" + j.With + ")"
}

// Lines are one.
func (j *Job) Lines() iter.Seq[Line] { return one(Line{"job", j, j.Err}) }

// Mistake is something wrong in a job file.
type Mistake struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Why    string `json:"why"`
	Do     string `json:"do,omitempty"`
}

// Lines are one.
func (m *Mistake) Lines() iter.Seq[Line] { return one(Line{"mistake", m, nil}) }
