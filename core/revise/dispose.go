package revise

import (
	"context"
	"fmt"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/report"
	"widecrate/core/source"
)

// before reports whether an archive was made before of the same.
func (c *Conversion) before(ctx context.Context, r *report.Converted) bool {
	if c.Done == nil || len(r.From) == 0 {
		return false
	}
	earlier := c.Done(r.From, r.Asked)
	if earlier == nil || !c.Output.Opens(ctx, earlier) {
		return false
	}
	r.Done, r.Files = true, len(earlier.Files)
	r.Path, r.Packed = c.Output.Earlier(&r.Made, earlier)
	for _, f := range earlier.Files {
		r.Entries, r.Sums = append(r.Entries, archive.Entry{Path: f.Path}), append(r.Sums, f.SHA256)
	}
	return true
}

// dispose lets sources go: those that failed, and those all of which is in new archives.
func (c *Conversion) dispose(ctx context.Context, files [][]blob.File, results []*report.Converted, tell report.Sink) {
	if c.After.Disposition == disposal.Keep && c.Failed.Disposition == disposal.Keep {
		return
	}
	var unready error
	if c.BeforeDisposal != nil && !c.DryRun {
		unready = c.BeforeDisposal()
	}
	if c.Failed.Disposition == disposal.Move && unready == nil {
		failed := make([]error, len(results))
		for i, r := range results {
			if r != nil {
				failed[i] = r.Err
			}
		}
		source.SetAside(ctx, c.Sources, files, failed, c.Failed.Route(c.Begun, true), c.DryRun, tell.Disposed(true, c.DryRun))
	}
	if c.After.Disposition == disposal.Keep {
		return
	}
	nowhere := c.Selection.Nowhere()
	route, done := c.After.Route(c.Begun, false), tell.Disposed(false, c.DryRun)
	type left struct {
		of    source.Source
		taken *disposal.Taken // nil: it was said already
	}
	disposal.Each(ctx, disposal.Together(files), func(g *disposal.Group) left {
		kept := ""
		for _, i := range g.Of {
			if kept == "" {
				kept = c.kept(results[i])
			}
		}
		s := c.Sources[g.Of[0]]
		taken := disposal.Taken{Kept: kept}
		switch {
		case results[g.Of[0]] == nil, kept == failing && c.Failed.Disposition == disposal.Move:
			return left{s, nil}
		case unready != nil:
			taken.Kept = "the receipt could not be written"
		case kept == "" && nowhere != "":
			taken.Kept = nowhere + " was asked for, and is nowhere"
		case kept == "":
			taken = s.Leave(ctx, g.Files, route, nil, c.DryRun)
		}
		return left{s, &taken}
	}, func(l left) {
		if l.taken != nil {
			done(l.of, *l.taken)
		}
	})
}

const failing = "it could not be converted"

// kept is why a source stays; empty: all of it is in a new archive, which is there.
func (c *Conversion) kept(r *report.Converted) string {
	var partly []string
	switch {
	case r == nil:
		return "it was not taken"
	case r.Err != nil:
		return failing
	case r.Done:
		return "an earlier run made the new archive, and they were not compared"
	}
	for rule := choose.Kept + 1; int(rule) < len(r.LeftOut); rule++ {
		if n := r.LeftOut[rule]; n > 0 && rule != choose.Clutter {
			partly = append(partly, fmt.Sprintf("%d %s", n, rule))
		}
	}
	partly = append(partly, r.Notes...)
	if len(partly) > 0 && r.Files == 0 {
		return "nothing of it is in the new archive (" + strings.Join(partly, ", ") + ")"
	}
	if len(partly) > 0 && !c.After.EvenIfPartial {
		return "not all of it is in the new archive (" + strings.Join(partly, ", ") + ")"
	}
	for _, record := range r.There {
		if !record.Holds() {
			return "the new archive is not there as it was made"
		}
	}
	return ""
}
