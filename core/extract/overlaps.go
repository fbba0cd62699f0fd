package extract

import (
	"hash/maphash"
	"io"
	"path/filepath"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// refuseOverlaps refuses sources that would get the same own folder, as entries of
// different archives would be mixed in it, and folders that would be swapped although
// something lies in them that must stay. All of it is known before anything is done.
func (r *run) refuseOverlaps() error {
	fresh := r.Rules.Fresh
	if r.Placement.Layout == place.Shared || r.Placement.Layout == place.Auto && !fresh {
		return nil
	}
	target, err := r.targets()
	if err != nil {
		return err
	}
	r.folders = make(map[folder]*unit, len(r.sources))
	if r.Placement.Layout == place.Own {
		for i := range r.Others {
			u := &unit{run: r, source: &r.Others[i]}
			if target, err := r.targetOf(u.source, u.source.Name()); err == nil && !u.namedLater() {
				r.folders[r.folderOf(target)] = u
			}
		}
	}
	later := r.Placement.Layout == place.Auto
	for _, u := range r.sources {
		later = later || u.source.Elsewhere()
		to, known := target(u)
		if !known || u.namedLater() {
			continue
		}
		own := r.folderOf(to)
		first, taken := r.folders[own]
		if !taken {
			r.folders[own] = u
			continue
		}
		first.fail(sharedWith(to, u))
		u.fail(sharedWith(to, first))
	}
	if fresh {
		r.needAll(target)
		for _, u := range r.sources {
			if to, known := target(u); known {
				u.fail(r.holds(to))
			}
		}
	}
	if !later { // no name will change any more
		r.folders = nil
	}
	return nil
}

// namedLater reports whether the server is likely to say what a source is called: its address
// does not look like an archive.
func (u *unit) namedLater() bool {
	if u.source.Address() == nil || u.source.Set() != nil {
		return false
	}
	_, archive := format.ByName(u.source.Name())
	return !archive
}

// fail gives a source an error, unless it has one.
func (u *unit) fail(err error) {
	if u.err == nil && err != nil {
		u.err = fault.At(u.source.Path, err)
	}
}

// targets are the own folders of the sources, as far as they are known: those that the
// entries decide are asked of the archives, unless one can only be read once.
func (r *run) targets() (of func(u *unit) (to place.Target, known bool), err error) {
	if r.Placement.Layout == place.Own {
		return func(u *unit) (place.Target, bool) {
			to, _ := r.targetOf(u.source, u.source.Name()) // the error is that of the unit
			return to, true
		}, nil
	}
	targets := make(map[*unit]place.Target, len(r.sources))
	var sources []source.Source
	var asked []*unit
	for _, u := range r.sources {
		if u.source.Input() == nil && u.err == nil {
			sources, asked = append(sources, *u.source), append(asked, u)
		}
	}
	o, p := r.Options, *r.Placement
	o.Sources, o.DryRun, o.Halt, o.After, o.Failed, o.Progress, o.Done = sources, true, false, disposal.After{}, disposal.After{}, nil, nil
	o.Rules.Fresh = false // nothing is swapped yet
	p.Rename = nil
	o.Placement = &p
	ask := newRun(r.ctx, o, func(report.Event) {})
	asks := make(map[*unit]*unit, len(asked)) // for the one of this run
	for i, u := range ask.sources {
		asks[u] = asked[i]
	}
	ask.output = func(u *unit) output {
		return asking{func() {
			if one := asks[u]; one != nil {
				targets[one] = u.target
			}
		}}
	}
	ask.schedule(ask.sources...)
	return func(u *unit) (place.Target, bool) {
		to, known := targets[u]
		return to, known
	}, r.ctx.Err()
}

// asking is the output of archives that are only asked where they go.
type asking struct{ note func() }

func (a asking) pass(int, io.Reader) error       { return nil }
func (a asking) drop(int) error                  { return nil }
func (a asking) do(int) (int, error)             { return 0, nil }
func (a asking) commit() ([]stage.Result, error) { return nil, nil }
func (a asking) finish()                         {}
func (a asking) discard() error                  { return nil }
func (a asking) changes() changes                { return changes{} }

func (a asking) begin(*plan.Plan) (work schedule.Work, err error) {
	a.note()
	return work, nil
}

// needAll tells the guard what must stay.
func (r *run) needAll(target func(u *unit) (place.Target, bool)) {
	for _, n := range r.Needed {
		r.guard.Keep(n.Path, n.What)
	}
	if r.Staging != "" {
		r.guard.Keep(r.Staging, "unfinished work")
	}
	for _, u := range r.sources {
		r.guard.Keep(u.root.path, "the destination of "+u.source.Path)
		for _, path := range u.source.OnDisk() {
			r.guard.Keep(path, "the source "+path)
		}
		if to, known := target(u); known {
			r.guard.Keep(filepath.Dir(r.absolute(to.Path())), "the folder of "+u.source.Path)
		}
	}
}

// holds refuses to swap a folder in which something lies that must stay.
func (r *run) holds(t place.Target) error {
	what := r.guard.Within(r.absolute(t.Path()))
	if what == "" {
		return nil
	}
	return fault.New(fault.Refused, "its folder %s would be swapped, and %s lies in it", r.absolute(t.Path()), what).Suggest(fault.SwapElsewhere)
}

// folder stands for the path of an own folder: a hash of 128 bits, as there may be millions.
type folder [2]uint64

// folderOf is an own folder as file systems compare them.
func (r *run) folderOf(t place.Target) folder {
	key := place.Key(r.absolute(t.Path()))
	return folder{maphash.String(r.seeds[0], key), maphash.String(r.seeds[1], key)}
}

func sharedWith(t place.Target, other *unit) error {
	return fault.New(fault.Refused, "its folder %s would also be that of %s", place.Absolute(t.Path()), other.source.Path).
		Suggest(fault.NameOrMerge)
}

// claim refuses an own folder that another source has, or that holds what must stay,
// where its name is known only when the source is open.
func (r *run) claim(u *unit) error {
	r.telling.Lock()
	defer r.telling.Unlock()
	own := r.folderOf(u.target)
	if first, taken := r.folders[own]; taken && first != u {
		return sharedWith(u.target, first)
	}
	r.folders[own] = u
	if r.Rules.Fresh {
		return r.holds(u.target)
	}
	return nil
}
