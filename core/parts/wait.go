package parts

import (
	"context"
	"time"
)

// How a set is watched that may still be arriving.
const (
	pause = time.Second      // between two looks
	quiet = 2 * time.Second  // nothing has changed for so long: it has arrived
	old   = 10 * time.Minute // what was not changed for so long is not waited for
)

// Await looks at a set again and again until it is complete and none of its
// parts has changed for a while, or until the deadline; it returns the set as it
// is then. find finds the set again.
func Await(ctx context.Context, s *Set, deadline time.Time, find func() (*Set, error)) (*Set, error) {
	changed := time.Now()
	for !s.arrived(changed) && time.Now().Before(deadline) {
		select {
		case <-ctx.Done():
			return s, ctx.Err()
		case <-time.After(min(pause, time.Until(deadline))):
		}
		now, err := find()
		if err != nil || now == nil {
			return s, err
		}
		if !now.like(s) {
			changed = time.Now()
		}
		s = now
	}
	return s, nil
}

// arrived reports whether nothing more is to be expected of a set.
func (s *Set) arrived(changed time.Time) bool {
	if s.Check() != nil || s.MoreMayFollow() {
		return false
	}
	if time.Since(changed) >= quiet {
		return true
	}
	for _, p := range s.Parts {
		if time.Since(p.Info.ModTime()) < old {
			return false
		}
	}
	return true
}

// MoreMayFollow reports whether there may well be more: nothing says how many parts there
// are, and the last one is as large as the others, or has nothing yet.
func (s *Set) MoreMayFollow() bool {
	last := s.Parts[len(s.Parts)-1].size()
	return s.Total == 0 && last == s.Parts[0].size() || last == 0
}

// like reports whether two looks at a set saw the same.
func (s *Set) like(other *Set) bool {
	if len(s.Parts) != len(other.Parts) {
		return false
	}
	for i, p := range s.Parts {
		q := other.Parts[i]
		if (p.Info == nil) != (q.Info == nil) || p.Info != nil && (p.Info.Size() != q.Info.Size() || !p.Info.ModTime().Equal(q.Info.ModTime())) {
			return false
		}
	}
	return true
}
