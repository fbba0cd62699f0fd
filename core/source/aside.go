package source

import (
	"context"

	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
)

// Leave moves the files of a source that failed to where a route says, with the reason
// beside them: those that it was read from, or where they are not known, of a set that is not
// complete, say, those that are there. See disposal.Route.Take.
func (s Source) Leave(files []blob.File, route *disposal.Route, why error, dryRun bool) disposal.Taken {
	if len(files) == 0 {
		for _, path := range s.OnDisk() {
			f, err := blob.Find(path)
			if err != nil {
				return disposal.Taken{Err: err}
			}
			files = append(files, f)
		}
	}
	if len(files) == 0 || s.Elsewhere() {
		return disposal.Taken{Kept: "it is no file"}
	}
	return route.Take(files, why, dryRun)
}

// Files are those of sources, as they are before anything is read, for SetAside.
func Files(ctx context.Context, sources []Source) [][]blob.File {
	files := make([][]blob.File, len(sources))
	for i, s := range sources {
		if !s.Elsewhere() {
			files[i], _ = s.Files(ctx) // why there are none, the source says when it is opened
		}
	}
	return files
}

// SetAside lets those sources leave that failed, by something that is wrong with themselves,
// and reports each. One that is named several times has to have failed each time.
func SetAside(sources []Source, files [][]blob.File, failed []error, route *disposal.Route, dryRun bool, done func(s Source, taken disposal.Taken)) {
	for _, g := range disposal.Together(files) {
		var why error
		for _, i := range g.Of {
			if why = failed[i]; !fault.Of(why).InSource() {
				break
			}
		}
		if fault.Of(why).InSource() {
			s := sources[g.Of[0]]
			done(s, s.Leave(g.Files, route, why, dryRun))
		}
	}
}
