package show

import (
	"errors"
	"slices"

	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/report"
)

// Form is what standard output holds.
type Form uint8

// The forms.
const (
	People Form = iota // what people read
	JSON
	Names
	Tree
	CSV
	Archives
)

// Output is where the results of a command go, and in which form.
type Output struct {
	Out, Err *Screen
	Form     Form
	Null     bool // a path ends with a zero byte, and not with its line
	Quiet    bool
	Verbose  bool

	Watch func(report.Event) // gets all events; nil: nobody asks

	NotTaken map[string]int // files in the folders of the last command that were not taken, by extension

	Last *report.Ended // what the last command came to; nil: it did not end, or does not say
}

// Summary is where what people read goes: not among the data.
func (o *Output) Summary() *Screen {
	if o.Form == People {
		return o.Out
	}
	return o.Err
}

// Problem shows an error after all that was printed before it. An error
// stream that cannot be written to leaves the exit code to tell.
func (o *Output) Problem(err error) {
	o.Out.Flush()
	o.Err.Problem(err)
	if ours, ok := errors.AsType[*fault.Panic](err); ok && o.Verbose {
		o.Err.Printf("%s\n", ours.Stack)
	}
	o.Err.Flush()
}

// Warn shows something that is no failure.
func (o *Output) Warn(text string) {
	o.Out.Flush()
	o.Err.Printf("%s %s\n", o.Err.Strong("!"), Plain(text))
	o.Err.Flush()
}

// Event prints an event where the form is JSON or CSV, and a notice. What it cannot write, the flush
// at the end says.
func (o *Output) Event(e report.Event) {
	if o.Watch != nil {
		o.Watch(e)
	}
	switch e := e.(type) {
	case report.Notice:
		if !o.Quiet {
			o.Warn(string(e))
		}
	case *report.Ended:
		o.Last, e.NotTaken = e, o.NotTaken
	}
	if o.Form == CSV {
		o.deeds(e)
	}
	if o.Form == JSON {
		_ = report.Encoder{To: o.Out, Say: o.Out.Say}.Encode(e)
	}
}

// Failed prints that a source failed.
func (o *Output) Failed(err error) {
	o.Event(&report.Failed{Err: err})
	o.Problem(err)
}

// Name prints a path in a list of them.
func (o *Output) Name(path string) {
	if o.Null {
		o.Out.WriteString(path)
		o.Out.WriteByte(0)
		return
	}
	if o.Out.Terminal { // else a script reads it, to the letter
		path = Plain(path)
	}
	o.Out.WriteString(path)
	o.Out.WriteByte('\n')
}

// Result prints what a command, or a part of one, came to: for scripts, as names, or in
// words.
func (o *Output) Result(e report.Event, names []string, words func(s *Screen)) {
	o.Event(e)
	if o.Form == Names {
		for _, name := range names {
			o.Name(name)
		}
	}
	if !o.Quiet {
		words(o.Summary())
	}
}

// written are the paths of a new archive: its own, or those of its parts and of the list of
// their sums.
func written(path string, m *report.Made) []string {
	if m.Parts == nil {
		return []string{path}
	}
	return append(slices.Clone(m.Parts), m.Sums)
}

// tellRemarks says how archives were read, as far as everybody is to know.
func tellRemarks(s *Screen, remarks report.Remarks) {
	for _, r := range remarks {
		s.Printf("%s: %s\n", s.Name(parts.Shorten(r.Archives)), s.Say.With(r.Text, r.Hint))
	}
}
