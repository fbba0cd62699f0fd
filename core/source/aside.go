package source

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/remote"
)

// Leave moves the files of a source that failed to where a route says, with the reason
// beside them: those that it was read from, or where they are not known, of a set that is not
// complete, say, those that are there. See disposal.Route.Take.
func (s Source) Leave(ctx context.Context, files []blob.File, route *disposal.Route, why error, dryRun bool) disposal.Taken {
	if len(files) == 0 && s.Set() != nil && s.Elsewhere() {
		for _, p := range s.Set().Parts {
			if p.Info != nil {
				files = append(files, p.File)
			}
		}
	}
	if len(files) == 0 {
		for _, path := range s.OnDisk() {
			f, err := blob.Find(path)
			if err != nil {
				return disposal.Taken{Err: err}
			}
			files = append(files, f)
		}
	}
	if len(files) == 0 {
		return disposal.Taken{Kept: "it is no file"}
	}
	return route.Take(ctx, files, why, dryRun)
}

// Files are those of sources, as they are before anything is read, for SetAside; those at
// addresses are only asked for if somebody needs them.
func Files(ctx context.Context, sources []Source, addresses bool) [][]blob.File {
	files := make([][]blob.File, len(sources))
	var asking errgroup.Group
	asking.SetLimit(2 * remote.DefaultConnections)
	for i, s := range sources {
		switch {
		case s.Input() != nil, s.Elsewhere() && !addresses:
		case s.Elsewhere():
			asking.Go(func() error {
				files[i], _ = s.Files(ctx)
				return nil
			})
		default:
			files[i], _ = s.Files(ctx) // why there are none, the source says when it is opened
		}
	}
	_ = asking.Wait() // it never fails
	return files
}

// SetAside lets those sources leave that failed, by something that is wrong with themselves,
// and reports each. One that is named several times has to have failed each time.
func SetAside(ctx context.Context, sources []Source, files [][]blob.File, failed []error, route *disposal.Route, dryRun bool, done func(s Source, taken disposal.Taken)) {
	disposal.Each(ctx, disposal.Together(files), func(g *disposal.Group) *left {
		var why error
		for _, i := range g.Of {
			if why = failed[i]; !fault.Of(why).InSource() {
				return nil
			}
		}
		s := sources[g.Of[0]]
		return &left{s, s.Leave(ctx, g.Files, route, why, dryRun)}
	}, func(l *left) {
		if l != nil {
			done(l.Source, l.Taken)
		}
	})
}

// left is what became of a source.
type left struct {
	Source
	disposal.Taken
}

// CheckAfter makes sure that all sources could go where they are to go in the end: kind
// fault.Usage.
func CheckAfter(sources []Source, today time.Time, all ...*disposal.After) error {
	for i := range sources {
		s := &sources[i]
		for _, a := range all {
			if a.Disposition == disposal.Keep {
				continue
			}
			if s.Input() != nil {
				return fault.At(s.Path, fault.New(fault.Usage, "what comes from standard input is no file, and can be neither removed nor moved").Advise("keep it, or name files"))
			}
			if err := a.Check(s.Path, s.at(), today); err != nil {
				return err
			}
		}
	}
	return nil
}

// at is the address of the source, or of the first of a series; nil: it is on disk.
func (s *Source) at() *remote.Address {
	if len(s.Members()) > 0 {
		return s.Members()[0].at()
	}
	return s.Address()
}
