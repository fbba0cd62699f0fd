package create

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
)

// An EachResult is what became of one source of a batch.
type EachResult struct {
	Source string
	Result *report.Created
	Err    error
}

// EachPlaceholders are those of the path of one archive of a batch.
var EachPlaceholders = []string{"name", "stem", "parent", "n", "today"}

// RunEach makes one archive for every source, several at a time, in folders that
// are made if missing, and reports each in the order of the sources. The path of
// an archive comes from a template; EachPlaceholders are those that it may have.
// One that fails does not stop the others. Two
// archives with the same path are of kind fault.Usage, unless the rule for
// clashes numbers them.
func RunEach(ctx context.Context, o Options, name *place.Template, tell func(*EachResult)) error {
	targets, err := o.targets(name)
	if err != nil {
		return err
	}
	o.Complete()
	workers := o.Workers
	o.Workers = max(1, workers/max(1, len(o.Sources)))
	return schedule.Each(ctx, len(o.Sources), workers, func(i int) *EachResult {
		one := o
		one.Sources, one.Archive, one.asked = []string{o.Sources[i]}, targets[i].path, targets[i].asked
		if one.Existing == Number { // the path has its number
			one.Existing = Refuse
		}
		each := &EachResult{Source: o.Sources[i]}
		if each.Err = ctx.Err(); each.Err == nil && !o.DryRun {
			each.Err = fault.Writing(one.Archive, os.MkdirAll(filepath.Dir(one.Archive), 0o777))
		}
		if each.Err == nil {
			each.Err = fault.Guard(func() (err error) {
				each.Result, err = Run(ctx, one)
				return err
			})
		}
		return each
	}, tell)
}

// target is the path of an archive, and the one that was asked for, before it got a number.
type target struct{ path, asked string }

// targets are the paths of the archives.
func (o *Options) targets(name *place.Template) ([]target, error) {
	targets := make([]target, len(o.Sources))
	taken := map[string]string{}
	today := time.Now()
	for i, source := range o.Sources {
		full, err := filepath.Abs(source)
		if err != nil {
			return nil, fault.Reading(source, err)
		}
		path, err := filepath.Abs(name.Expand(place.Values{Name: filepath.Base(full), Parent: filepath.Base(filepath.Dir(full)), Number: i + 1, Today: today}))
		if err != nil {
			return nil, fault.Writing(source, err)
		}
		asked := path
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
		targets[i] = target{path, asked}
	}
	return targets, nil
}
