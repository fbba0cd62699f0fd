package create

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/storage"
)

// EachPlaceholders are those of the path of one archive of a batch.
var EachPlaceholders = []string{"name", "stem", "ext", "from", "n", "today"}

// RunEach makes one archive for every source, several at a time, in folders that
// are made if missing, and reports each in the order of the sources: a *report.Created, a
// *report.Failed, or in the end a *report.NotTaken where the run halted. The path of an
// archive comes from a template; EachPlaceholders are those that it may have. One that
// fails does not stop the others. Two archives with the same path are of kind
// fault.Usage, unless the rule for clashes numbers them.
func RunEach(ctx context.Context, o Options, name *place.Template, tell report.Sink) error {
	targets, err := o.targets(name)
	if err != nil {
		return err
	}
	for _, target := range targets {
		if o.DryRun {
			break
		}
		discard, err := o.Sites.Ahead(storage.Dir(target.path)) // one for all of them
		if err != nil {
			return err
		}
		defer discard()
	}
	o.Complete()
	workers := o.Workers
	o.Workers = max(1, workers/max(1, len(o.Sources)))
	left, err := schedule.Each(ctx, len(o.Sources), schedule.Options{Workers: workers, Halt: o.Halt}, func(i int) (report.Event, error) {
		one := o
		one.Sources, one.Archive, one.asked = []string{o.Sources[i]}, targets[i].path, targets[i].asked
		if one.Existing == Number { // the path has its number
			one.Existing = Refuse
		}
		var made *report.Created
		err := fault.Guard(func() (err error) {
			if err = ctx.Err(); err == nil {
				made, err = Run(ctx, one)
			}
			return err
		})
		if err != nil {
			if fe, ok := errors.AsType[*fault.Error](err); !ok || fe.Where == "" {
				err = fault.At(o.Sources[i], err)
			}
			return &report.Failed{Err: err}, err
		}
		return made, nil
	}, func(e report.Event) { tell(e) })
	if err == nil {
		tell.Left(left, func(i int) string { return o.Sources[i] })
	}
	return err
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
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
		values := place.Values{Name: filepath.Base(full), IsFolder: isFolder(full), From: storage.FolderOf(full), Number: i + 1, Today: today}
		values.Name, values.From = storage.Escaped(o.Archive, values.Name), storage.Escaped(o.Archive, values.From)
		path, err := o.Sites.Written(name.Expand(values))
		if err != nil {
			return nil, err
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
