// Package report has what happened, as typed events: what became of an archive, of
// an entry, of a source. Every command speaks in them, and all that is shown or
// written of a run, for people, for scripts or for later runs, is made from them
// alone. It does no work itself.
package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"widecrate/core/choose"
	"widecrate/core/fault"
)

// An Event is something that happened. Its tags say what scripts get of it; docs/json.md
// describes them.
type Event interface{ Lines() iter.Seq[Line] }

// A Line is one of JSON: its kind, the fields of a structure, and what went wrong.
type Line struct {
	Kind   string
	Fields any
	Err    error
}

func one(l Line) iter.Seq[Line] { return func(yield func(Line) bool) { yield(l) } }

// Took is how long something took; in JSON, in seconds.
type Took struct{ time.Duration }

// Since is the time since something began.
func Since(began time.Time) Took { return Took{time.Since(began)} }

// MarshalJSON gives seconds.
func (t Took) MarshalJSON() ([]byte, error) { return json.Marshal(t.Seconds()) }

// A Sink receives what happens, never by two goroutines at a time.
type Sink func(Event)

// Notice is something that a person may want to know; it has no line of JSON.
type Notice string

// Lines are none.
func (Notice) Lines() iter.Seq[Line] { return func(func(Line) bool) {} }

// NotTaken is an archive that a run did not come to, because one before it failed.
type NotTaken struct {
	Archive string `json:"archive"`
}

// Lines are one.
func (n *NotTaken) Lines() iter.Seq[Line] {
	return one(Line{"archive", struct {
		*NotTaken
		Skipped string `json:"skipped"`
	}{n, "halted"}, nil})
}

// Left tells of archives that a run left alone after its first failure: of some of those
// with these names.
func (s Sink) Left(left []int, name func(i int) string) {
	for _, i := range left {
		s(&NotTaken{Archive: name(i)})
	}
	if len(left) > 0 {
		s(Stopped(len(left)))
	}
}

// Stopped says that a run was halted before so many archives.
func Stopped(archives int) Notice {
	count := "1 archive was"
	if archives > 1 {
		count = fmt.Sprintf("%d archives were", archives)
	}
	return Notice("stopped at the first failure: " + count + " not taken")
}

// Ended is what a command came to: its last line.
type Ended struct {
	Archives int            `json:"archives"` // without a failure
	Done     int            `json:"done,omitempty"`
	Failed   int            `json:"failed"`
	Files    int            `json:"files"`
	Bytes    int64          `json:"bytes"` // written; of what only reads, that were read or listed
	LeftOut  choose.Tally   `json:"left_out,omitzero"`
	NotTaken map[string]int `json:"not_taken,omitempty"` // files in folders that are not called like archives, by extension
	DryRun   bool           `json:"dry_run,omitempty"`
	Took     Took           `json:"seconds"`
}

// Lines are one.
func (e *Ended) Lines() iter.Seq[Line] { return one(Line{"totals", e, nil}) }

// Failures finds out what errors have in common.
type Failures struct {
	count int
	kind  fault.Kind
}

// Add takes one error into account.
func (f *Failures) Add(err error) {
	kind := fault.Of(err)
	if f.count > 0 && f.kind != kind {
		kind = fault.Other
	}
	f.kind = kind
	f.count++
}

// Count is how many there were.
func (f *Failures) Count() int { return f.count }

// Err is nil when nothing failed. Failures of one kind make an error of that
// kind, others one of kind fault.Other.
func (f *Failures) Err() error {
	if f.count == 0 {
		return nil
	}
	return fault.New(f.kind, "%d failures", f.count)
}

// mostNowhere is how many entries that are nowhere are named.
const mostNowhere = 20

// nowhere is the error about entries that were asked for by their paths; nil: all are there.
// Of what failed, not all was looked at.
func nowhere(rules []choose.Unmatched, failed bool) error {
	if len(rules) == 0 {
		return nil
	}
	first, among := rules[0], ""
	if failed {
		among = " of what could be read"
	}
	e := fault.New(fault.NoMatch, "no entry%s has the path %q", among, first.Text)
	if len(rules) > 1 {
		var paths []string
		for _, rule := range rules[:min(len(rules), mostNowhere)] {
			paths = append(paths, strconv.Quote(rule.Text))
		}
		if more := len(rules) - len(paths); more > 0 {
			paths = append(paths, fmt.Sprintf("and %d more", more))
		}
		e = fault.New(fault.NoMatch, "%d paths are those of no entry%s: %s", len(rules), among, strings.Join(paths, ", "))
	}
	switch {
	case strings.ContainsAny(first.Text, "*?"):
		_ = e.Suggest(fault.PickPattern)
	case first.Nearest != "":
		_ = e.Advise(fmt.Sprintf("the nearest to %q is %q", first.Text, first.Nearest)).Suggest(first.Hint())
	}
	return e
}

// Matches looks at what a selection did: nothing matched anywhere, though no archive failed,
// or entries asked for by their paths that are nowhere, are an error of kind fault.NoMatch.
// What else matched nothing, though something was kept, is returned.
func Matches(s *choose.Selection, kept int, leftOut choose.Tally, failed bool) (unmatched []choose.Unmatched, err error) {
	var entries, patterns []choose.Unmatched
	for _, rule := range s.Unmatched() {
		if rule.Entry {
			entries = append(entries, rule)
		} else {
			patterns = append(patterns, rule)
		}
	}
	if kept > 0 {
		unmatched = patterns
	}
	err = nowhere(entries, failed)
	if err == nil && kept == 0 && leftOut.LeftOut() > 0 && !failed {
		e := fault.New(fault.NoMatch, "nothing was kept: %s", leftOut.String())
		near := slices.IndexFunc(patterns, func(rule choose.Unmatched) bool { return rule.Nearest != "" })
		switch {
		case slices.ContainsFunc(patterns, func(rule choose.Unmatched) bool { return strings.Contains(rule.Text, `\`) }):
			err = e.Suggest(fault.SlashInPattern)
		case near >= 0:
			err = e.Advise(fmt.Sprintf("%q just misses %q", patterns[near].Text, patterns[near].Nearest)).Suggest(patterns[near].Hint())
		default:
			err = e.Advise("widecrate inspect shows what is inside")
		}
	}
	return unmatched, err
}

// Failure is the JSON of an error.
type Failure struct {
	Kind  string `json:"kind"`
	Code  int    `json:"code,omitempty"`
	Where string `json:"where,omitempty"`
	Why   string `json:"why"`
	Do    string `json:"do,omitempty"`
}

// FailureOf returns it; nil for a nil error.
func FailureOf(err error, say fault.Wording) *Failure {
	if err == nil {
		return nil
	}
	f := &Failure{Kind: fault.Of(err).Error(), Why: err.Error()}
	if say.Code != nil {
		f.Code = say.Code(fault.Of(err))
	}
	if e, ok := errors.AsType[*fault.Error](err); ok {
		f.Where, f.Why, f.Do = e.Where, e.Err.Error(), say.Advice(e)
	}
	return f
}

// Failed is a command that came to nothing, or a source of it.
type Failed struct{ Err error }

// Lines are one.
func (f *Failed) Lines() iter.Seq[Line] { return one(Line{"failed", nil, f.Err}) }
