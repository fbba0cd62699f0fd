// Package job reads job files: what is to be done again and again, written down once.
// It knows how such a file is built, its variables and repetitions, and finds all of
// its mistakes at once; which commands there are, and which options they have, it learns
// from the program. It runs nothing. docs/jobs.md describes the file.
package job

import "widecrate/core/report"

// A Language is what a program lets job files say.
type Language struct {
	Commands []Command
	Common   []Key // for all jobs, or about the run as a whole
}

// A Command is one that a job can run.
type Command struct {
	Name    string
	Help    string            // one line
	Keys    []Key             // its arguments, and its options by their names
	Refused map[string]string // other options, and why a job file cannot have them
}

// A Key is an argument or option of a command, or of a run.
type Key struct {
	Name  string
	Help  string // one line
	Form  Form
	Words []string // all that it can be; of a text, some that are offered; nil: there are too many
	Least int      // of a number
}

// Form is how the value of a key is written.
type Form uint8

// The forms.
const (
	Text   Form = iota // a text; so is a number
	Texts              // a text, or a list of them
	Switch             // true or false
	Number             // a whole number
	Word               // one of the words
	Rows               // the name of a file, or a list of pairs
)

// A File is a job file that was read.
type File struct {
	Jobs     []Job      // in their order, those of a repetition one by one
	Defaults []Defaults // in their order
	Common   []Setting

	Variables []string // names that a text may have in it
	Strays    []string // of variables set from outside that nothing uses

	source *source
}

// Defaults are the settings of all jobs with a command that do not have their own.
type Defaults struct {
	Command  string
	Settings []Setting
}

// A Job is one run of a command.
type Job struct {
	Name     string
	With     string   // the values of its repetition: "station=osk-bay"; empty: it runs once
	Follows  []string // names of jobs before it, all of which must be done
	EvenIf   bool     // also after one of them has failed
	Needs    int      // how much of its archives must succeed, in per cent; 0: all
	Command  string
	Settings []Setting // with those of the defaults
	At       Place     // of its command
}

// A Setting is a key with its values.
type Setting struct {
	Key    string
	At     Place
	Values []Value
	Rows   [][]Value // of form Rows
}

// A Value is a text in which variables have been replaced.
type Value struct {
	Text string
	At   Place
}

// Title is the name of a job with what it is repeated for.
func (j *Job) Title() string {
	return (&report.Job{Name: j.Name, With: j.With}).Title()
}
