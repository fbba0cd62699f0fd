package disposal

import (
	"context"
	"slices"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/schedule"
	"widecrate/core/storage"
)

// Disposition is what is to become of a source that was delivered.
type Disposition uint8

// The dispositions.
const (
	Keep Disposition = iota
	Remove
	Move
)

// After says what becomes of sources in the end: nothing, unless all of one was
// delivered, checked and written through to the disk.
type After struct {
	Disposition   Disposition
	Folder        string          // for Move
	Into          *place.Template // for Move, instead of Folder: with {today} and {from}
	EvenIfPartial bool            // also where something was left out
}

// Route says where sources go in a run that began at a time; failed: it is the one of
// those that failed.
func (a *After) Route(begun time.Time, failed bool) *Route {
	return &Route{Begun: begun, Failed: failed, Base: a.base(), To: func(path string, begun time.Time) string {
		if a.Disposition != Move {
			return ""
		}
		return storage.Absolute(a.folder(path, begun))
	}}
}

// base is the folder that is named for what is moved, before what varies.
func (a *After) base() string {
	switch {
	case a.Disposition != Move:
		return ""
	case a.Into != nil:
		return storage.Absolute(a.Into.Fixed())
	}
	return storage.Absolute(a.Folder)
}

// folder is where an archive is moved to.
func (a *After) folder(path string, today time.Time) string {
	if a.Into != nil {
		return a.Into.Expand(place.Values{Name: storage.Base(path), From: storage.FolderOf(path), Today: today})
	}
	return a.Folder
}

// Finish gives what source.Request needs to finish what killed runs were removing or
// moving, of sets also in other folders in which parts may lie; nil where sources stay.
func Finish(after, failed *After, today time.Time, others []string) func(sites storage.Sites, folder string, names []string) (bool, error) {
	var routes []*Route
	if after.Disposition != Keep {
		routes = append(routes, after.Route(today, false))
	}
	if failed.Disposition != Keep {
		routes = append(routes, failed.Route(today, true))
	}
	if routes == nil {
		return nil
	}
	return func(sites storage.Sites, folder string, names []string) (finished bool, err error) {
		for _, route := range routes {
			done, err := route.Finish(sites, storage.Absolute(folder), names, others)
			if err != nil {
				return finished, err
			}
			finished = finished || done
		}
		return finished, nil
	}
}

// Receives reports whether a folder is one that archives are moved to: what lies there
// was dealt with.
func (a *After) Receives(path string) bool {
	switch {
	case a.Disposition != Move:
		return false
	case a.Into != nil:
		return a.Into.Could(strings.TrimSuffix(storage.Absolute(path), "/"))
	}
	return storage.Same(a.Folder, path)
}

// Check makes sure that a source, which lies at an address or on disk, could go where it is to go. Anything else is of
// kind fault.Usage.
func (a *After) Check(path string, at *remote.Address, today time.Time) error {
	if a.Disposition != Move {
		return nil
	}
	return storage.CheckMove(path, at, a.folder(path, today))
}

// Each deals with several that may go, in their order; those that are mostly waited for several at a time.
func Each[T any](ctx context.Context, groups []*Group, do func(g *Group) T, tell func(T)) {
	var files []blob.File
	for _, g := range groups {
		files = append(files, g.Files...)
	}
	workers := storage.Parallel(files)
	// Nobody is left in between: what is interrupted says so itself.
	_, _ = schedule.Each(context.WithoutCancel(ctx), len(groups), schedule.Options{Workers: workers}, func(i int) (T, error) { return do(groups[i]), nil }, tell)
}

// A Group is what reads the same files: each may be named several times.
type Group struct {
	Of    []int // in their order
	Files []blob.File
}

// Together brings together those that read the same files, by what they are on the disk.
func Together(all [][]blob.File) (groups []*Group) {
	of := map[any]*Group{}
	for i, files := range all {
		g := &Group{}
		for _, f := range files {
			if id := storage.IDOf(f); id != nil && of[id] != nil {
				g = of[id]
				break
			}
		}
		if g.Of == nil {
			groups = append(groups, g)
		}
		g.Of = append(g.Of, i)
		for _, f := range files {
			if id := storage.IDOf(f); id != nil {
				of[id] = g
			}
			if !slices.ContainsFunc(g.Files, func(other blob.File) bool { return f.Path == other.Path || storage.SameEntry(f, other.Path) }) {
				g.Files = append(g.Files, f)
			}
		}
	}
	return groups
}
