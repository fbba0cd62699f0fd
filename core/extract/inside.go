package extract

import (
	"widecrate/core/archive"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/walk"
)

// inside is what is known of an archive inside another.
type inside struct {
	*walk.Inside
	entry archive.Entry
	outer *unit
	depth int
}

// innerUnits are the units of the archives inside.
func (u *unit) innerUnits(opened []*walk.Inside) []schedule.Unit {
	units := make([]schedule.Unit, len(u.plan.Inner))
	for n, in := range u.plan.Inner {
		inner := &unit{run: u.run, top: u.top, source: u.source, root: u.run.roots.expect(in.Target.Root), dealings: &dealings{target: in.Target, budget: u.opened.budget,
			outcome: &report.Unpacked{Archive: u.outcome.Archive + " › " + in.Entry.Path, Source: u.outcome.Source,
				Target: u.run.absolute(in.Target.Path()), Root: u.run.absolute(in.Target.Root), DryRun: u.run.DryRun}}}
		inner.inside = &inside{entry: in.Entry, outer: u, depth: u.depth() + 1}
		if opened != nil {
			inner.inside.Inside = opened[n]
		} else {
			inner.inside.Inside = u.opened.archive.Inside(in.Index)
		}
		units[n] = inner
	}
	return units
}

func (u *unit) depth() int {
	if u.inside == nil {
		return 0
	}
	return u.inside.depth
}
