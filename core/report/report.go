// Package report has what happened, as typed events: what became of an archive, of
// an entry, of a source. Every command speaks in them, and all that is shown or
// written of a run, for people, for scripts or for later runs, is made from them
// alone. It does no work itself.
package report

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"

	"widecrate/core/choose"
	"widecrate/core/fault"
)

// An Event is something that happened. Its lines of JSON are values for
// encoding/json; docs/json.md describes them.
type Event interface {
	Lines(say fault.Wording) iter.Seq[any]
}

// A Sink receives what happens, never by two goroutines at a time.
type Sink func(Event)

// Notice is something that a person may want to know; it has no line of JSON.
type Notice string

// Lines are none.
func (Notice) Lines(fault.Wording) iter.Seq[any] { return lines() }

// NotTaken is an archive that a run did not come to, because one before it failed.
type NotTaken string

type notTaken struct {
	Kind    string `json:"kind"`
	Archive string `json:"archive"`
	Skipped string `json:"skipped"`
}

// Lines are one.
func (n NotTaken) Lines(fault.Wording) iter.Seq[any] {
	return lines(notTaken{"archive", string(n), "halted"})
}

// lines goes through values.
func lines(values ...any) iter.Seq[any] {
	return func(yield func(any) bool) {
		for _, v := range values {
			if !yield(v) {
				return
			}
		}
	}
}

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
		_ = e.Advise(fmt.Sprintf("the nearest to %q is %q", first.Text, first.Nearest))
	}
	return e
}

// Matches looks at what a selection did: nothing matched anywhere, though no archive failed,
// or entries asked for by their paths that are nowhere, are an error of kind fault.NoMatch.
// What else matched nothing, though something was kept, is returned.
func Matches(s *choose.Selection, kept int, leftOut choose.Tally, failed bool) (unmatched []string, err error) {
	var entries []choose.Unmatched
	for _, rule := range s.Unmatched() {
		switch {
		case rule.Entry:
			entries = append(entries, rule)
		case kept > 0:
			unmatched = append(unmatched, rule.Text)
		}
	}
	err = nowhere(entries, failed)
	if err == nil && kept == 0 && leftOut.LeftOut() > 0 && !failed {
		e := fault.New(fault.NoMatch, "nothing was kept: %s", leftOut.String()).Advise("widecrate inspect shows what is inside")
		if slices.ContainsFunc(s.Unmatched(), func(rule choose.Unmatched) bool { return !rule.Entry && strings.Contains(rule.Text, `\`) }) {
			e = fault.New(fault.NoMatch, "nothing was kept: %s", leftOut.String()).Suggest(fault.SlashInPattern)
		}
		err = e
	}
	return unmatched, err
}

// Failure is the JSON of an error.
type Failure struct {
	Kind  string `json:"kind"`
	Code  int    `json:"code"`
	Where string `json:"where,omitempty"`
	Why   string `json:"why"`
	Do    string `json:"do,omitempty"`
}

// FailureOf returns it; nil for a nil error.
func FailureOf(err error, say fault.Wording) *Failure {
	if err == nil {
		return nil
	}
	f := &Failure{Kind: fault.Of(err).Error(), Code: fault.Of(err).Number(), Why: err.Error()}
	if e, ok := errors.AsType[*fault.Error](err); ok {
		f.Where, f.Why, f.Do = e.Where, e.Err.Error(), say.Advice(e)
	}
	return f
}

// ByRule counts by the names of rules.
func ByRule(t choose.Tally) map[string]int {
	counts := map[string]int{}
	for rule := choose.Kept + 1; int(rule) < len(t); rule++ {
		if t[rule] > 0 {
			counts[strings.ReplaceAll(rule.String(), " ", "_")] = t[rule]
		}
	}
	return counts
}

// Failed is a command that came to nothing, or a source of it.
type Failed struct{ Err error }

type failed struct {
	Kind    string   `json:"kind"`
	Failure *Failure `json:"failure"`
}

// Lines are one.
func (f *Failed) Lines(say fault.Wording) iter.Seq[any] {
	return lines(failed{"failed", FailureOf(f.Err, say)})
}
