package choose

import (
	"time"

	"widecrate/core/archive"
)

// A Window is what a choice by dates came to: with other dates the same is chosen as long as
// they lie between what was kept and what was left out. A zero time stands for nothing.
type Window struct {
	Older time.Time `json:"older,omitzero"` // the latest that was left out as too old
	From  time.Time `json:"from,omitzero"`  // the earliest that was kept
	To    time.Time `json:"to,omitzero"`    // the latest that was kept
	Newer time.Time `json:"newer,omitzero"` // the earliest that was left out as too new
}

// Dated reports whether dates choose.
func (s *Selection) Dated() bool {
	return s != nil && !(s.rules.Since.IsZero() && s.rules.Until.IsZero())
}

// Note takes an entry in, with what was decided about it.
func (s *Selection) Note(w *Window, e *archive.Entry, verdict Rule) {
	t := e.Modified
	switch {
	case !s.Dated() || t.IsZero():
	case verdict == Kept && e.Kind != archive.Folder:
		w.Add(Window{From: t, To: t})
	case verdict == OtherTime && t.Before(s.rules.Since.Add(-tolerance)):
		w.Add(Window{Older: t})
	case verdict == OtherTime:
		w.Add(Window{Newer: t})
	}
}

// Add takes in what is known of other entries.
func (w *Window) Add(other Window) {
	earlier := func(to *time.Time, t time.Time) {
		if !t.IsZero() && (to.IsZero() || t.Before(*to)) {
			*to = t
		}
	}
	later := func(to *time.Time, t time.Time) {
		if t.After(*to) {
			*to = t
		}
	}
	later(&w.Older, other.Older)
	earlier(&w.From, other.From)
	later(&w.To, other.To)
	earlier(&w.Newer, other.Newer)
}

// Same reports whether with these dates the same would be chosen; a zero time sets no bound.
func (w *Window) Same(since, until time.Time) bool {
	from, to := since.Add(-tolerance), until.Add(tolerance)
	switch {
	case !w.Older.IsZero() && (since.IsZero() || !w.Older.Before(from)),
		!w.Newer.IsZero() && (until.IsZero() || !w.Newer.After(to)),
		!since.IsZero() && !w.From.IsZero() && w.From.Before(from),
		!until.IsZero() && !w.To.IsZero() && w.To.After(to):
		return false
	}
	return true
}
