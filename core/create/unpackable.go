package create

import (
	"math"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/stage"
)

// spell changes names so that every common system can hold them, those that links lead to
// as well, and returns how many paths are other ones now.
func (c *collector) spell() (changed int) {
	if c.Names == place.AsIs {
		return 0
	}
	var spelling place.Spelling
	stored, spelt := make([]string, len(c.found)), map[string]string{}
	for i := range c.found {
		e := &c.found[i].entry
		stored[i] = e.Path
		if e.Path = spelling.Path(e.Path); e.Path != stored[i] {
			changed++
		}
		spelt[stored[i]] = e.Path
	}
	for i := range c.found {
		switch e := &c.found[i].entry; e.Kind {
		case archive.Symlink:
			e.Link = spelling.Link(stored[i], e.Link)
			e.Size = int64(len(e.Link))
		case archive.Hardlink:
			e.Link = spelt[e.Link]
		}
	}
	return changed
}

// unpackable asks what extract would say of an archive with these entries: one that nobody
// can unpack is not made. It is of kind fault.Refused.
func unpackable(f archive.Format, entries []archive.Entry) error {
	if f.HoldsOne {
		return nil
	}
	p := plan.New(&plan.Rules{Placement: &place.Placement{Layout: place.Shared}}, 0, asked(entries))
	for i := range entries {
		p.Consider(i, &entries[i])
	}
	err := p.Place(entries, place.Target{}, place.Naming{}, bound.Limits{Entries: math.MaxInt64}.Budget(nil))
	if err == nil {
		err = stage.Consistent(p.Items)
	}
	if err == nil {
		return nil
	}
	return fault.New(fault.Refused, "it could not be unpacked: %w", err).Suggest(fault.PackPortable)
}

// asked is an archive that is not made yet.
type asked []archive.Entry

func (a asked) Called(i int) string        { return a[i].Path }
func (a asked) Link(i int) (string, error) { return a[i].Link, nil }
func (a asked) AnyOrder() bool             { return true }
