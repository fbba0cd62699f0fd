package extract

import (
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/report"
)

// failure is why a source failed: something is wrong with it. nil: nothing is, or it was
// delivered somewhere.
func (g *going) failure() (why error) {
	for _, u := range g.units {
		if why = u.after.failure; !fault.Of(why).InSource() {
			return nil
		}
	}
	return why
}

// setAside moves the files of a source that failed, with the reason beside them.
func (r *run) setAside(g *going, why error, route *disposal.Route, unready error) *report.Disposal {
	s := g.units[0].source
	d := &report.Disposal{Source: s.Path, Failed: true, DryRun: r.DryRun}
	if unready != nil {
		d.Kept = noReceipt
	} else {
		d.Taken = s.Leave(r.ctx, g.files, route, why, r.DryRun)
	}
	return d
}
