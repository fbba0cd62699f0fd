package extract

import (
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/walk"
)

// inside is what is known of an archive inside another.
type inside struct {
	plan.Inner
	outer  *unit
	depth  int
	within *walk.Archive // outer's, held until this one is open; nil where that comes in order:
	opened *walk.Archive // then it was opened as it passed by
	err    error
}

// close lets go of an archive that was not opened after all.
func (in *inside) close() {
	for _, a := range []*walk.Archive{in.within, in.opened} {
		if a != nil {
			a.Close()
		}
	}
	in.within, in.opened = nil, nil
}

// innerUnits are the units of the archives inside.
func (u *unit) innerUnits(opened []*inside) []schedule.Unit {
	units := make([]schedule.Unit, len(u.plan.Inner))
	for n, in := range u.plan.Inner {
		inner := &unit{run: u.run, top: u.top, source: u.source, root: u.run.roots.of(in.Target.Root), dealings: &dealings{target: in.Target, budget: u.budget,
			outcome: &report.Unpacked{Archive: u.outcome.Archive + " › " + in.Entry.Path, Source: u.outcome.Source,
				Target: u.run.absolute(in.Target.Path()), Root: u.run.absolute(in.Target.Root), DryRun: u.run.DryRun}}}
		if opened != nil {
			inner.inside = opened[n]
		} else {
			inner.inside = &inside{within: u.archive}
			u.archive.Keep()
		}
		inner.inside.Inner, inner.inside.outer, inner.inside.depth = in, u, u.depth()+1
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
