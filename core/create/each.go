package create

import (
	"context"
	"os"
	"path/filepath"

	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
)

// An EachResult is what became of one source of a batch.
type EachResult struct {
	Source string
	Result *report.Created
	Err    error
}

// RunEach makes one archive for every source, several at a time, in folders that
// are made if missing, and reports each in the order of the sources. name gives the path of the archive of a
// source, by its number from 1. One that fails does not stop the others. Two
// archives with the same path are of kind fault.Usage, unless the rule for
// clashes numbers them.
func RunEach(ctx context.Context, o Options, name func(source string, n int) string, tell func(*EachResult)) error {
	targets, err := o.targets(name)
	if err != nil {
		return err
	}
	workers := o.workers()
	o.Workers = max(1, workers/max(1, len(o.Sources)))
	return schedule.Each(ctx, len(o.Sources), workers, func(i int) *EachResult {
		one := o
		one.Sources, one.Archive = []string{o.Sources[i]}, targets[i]
		if one.Existing == Number { // it has been numbered
			one.Existing = Refuse
		}
		each := &EachResult{Source: o.Sources[i]}
		if each.Err = ctx.Err(); each.Err == nil && !o.DryRun {
			each.Err = fault.Writing(targets[i], os.MkdirAll(filepath.Dir(targets[i]), 0o777))
		}
		if each.Err == nil {
			each.Result, each.Err = Run(ctx, one)
		}
		return each
	}, tell)
}

// targets are the paths of the archives.
func (o *Options) targets(name func(source string, n int) string) ([]string, error) {
	targets := make([]string, len(o.Sources))
	taken := map[string]string{}
	for i, source := range o.Sources {
		path, err := filepath.Abs(name(source, i+1))
		if err != nil {
			return nil, fault.Writing(source, err)
		}
		if o.Existing == Number {
			if path, err = o.numbered(path, taken); err != nil {
				return nil, err
			}
		}
		if other, clash := taken[path]; clash {
			return nil, fault.New(fault.Usage, "%s and %s would both become %s", other, source, path).
				Suggest(fault.TellApart)
		}
		taken[path] = source
		targets[i] = path
	}
	return targets, nil
}
