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
	"widecrate/core/storage"
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
	r.folders = make(map[folder]*source.Source, len(r.Sources))
	if r.Placement.Layout == place.Own {
		for i := range r.Others {
			s := &r.Others[i]
			if target, err := r.targetOf(s, s.Name()); err == nil && !namedLater(s) {
				r.folders[r.folderOf(target)] = s
			}
		}
	}
	later := r.Placement.Layout == place.Auto
	for i := range r.Sources {
		s := &r.Sources[i]
		later = later || s.Elsewhere()
		to, known := target(i)
		if !known || namedLater(s) {
			continue
		}
		own := r.folderOf(to)
		first, taken := r.folders[own]
		if !taken {
			r.folders[own] = s
			continue
		}
		r.fail(first, sharedWith(to, s))
		r.fail(s, sharedWith(to, first))
	}
	if fresh {
		r.needAll(target)
		for i := range r.Sources {
			if to, known := target(i); known {
				r.fail(&r.Sources[i], r.holds(to))
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
func namedLater(s *source.Source) bool {
	if s.Address() == nil || s.Set() != nil {
		return false
	}
	_, archive := format.ByName(s.Name())
	return !archive
}

// targets are the own folders of the sources, as far as they are known: those that the
// entries decide are asked of the archives, unless one can only be read once.
func (r *run) targets() (of func(i int) (to place.Target, known bool), err error) {
	if r.Placement.Layout == place.Own {
		return func(i int) (place.Target, bool) {
			to, _ := r.targetOf(&r.Sources[i], r.Sources[i].Name()) // the error is that of the unit
			return to, true
		}, nil
	}
	targets := make(map[int]place.Target, len(r.Sources))
	var sources []source.Source
	var asked []int
	for i := range r.Sources {
		if s := &r.Sources[i]; s.Input() == nil && r.errOf(s) == nil {
			sources, asked = append(sources, *s), append(asked, i)
		}
	}
	o, p := r.Options, *r.Placement
	o.Sources, o.DryRun, o.Halt, o.After, o.Failed, o.Progress, o.Done = sources, true, false, disposal.After{}, disposal.After{}, nil, nil
	o.Rules.Fresh = false // nothing is swapped yet
	p.Rename = nil
	o.Placement = &p
	ask := newRun(r.ctx, o, func(report.Event) {})
	asks := make(map[*unit]int, len(asked)) // for the source of this run
	ask.output = func(u *unit) output {
		return asking{func() {
			if i, is := asks[u]; is {
				targets[i] = u.target
			}
		}}
	}
	ask.schedule(len(asked), func(i int) *unit {
		u := ask.unit(i)
		asks[u] = asked[i]
		return u
	})
	return func(i int) (place.Target, bool) {
		to, known := targets[i]
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
func (r *run) needAll(target func(i int) (place.Target, bool)) {
	for _, n := range r.Needed {
		r.guard.Keep(n.Path, n.What)
	}
	if r.Staging != "" {
		r.guard.Keep(r.Staging, "unfinished work")
	}
	for i := range r.Sources {
		s := &r.Sources[i]
		r.guard.Keep(storage.Absolute(r.rootOf(s)), "the destination of "+s.Path)
		for _, path := range s.OnDisk() {
			r.guard.Keep(path, "the source "+path)
		}
		if to, known := target(i); known {
			r.guard.Keep(filepath.Dir(r.absolute(to.Path())), "the folder of "+s.Path)
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

func sharedWith(t place.Target, other *source.Source) error {
	return fault.New(fault.Refused, "its folder %s would also be that of %s", storage.Absolute(t.Path()), other.Path).
		Suggest(fault.NameOrMerge)
}

// claim refuses an own folder that another source has, or that holds what must stay,
// where its name is known only when the source is open.
func (r *run) claim(u *unit) error {
	r.telling.Lock()
	defer r.telling.Unlock()
	own := r.folderOf(u.target)
	if first, taken := r.folders[own]; taken && first != u.source {
		return sharedWith(u.target, first)
	}
	r.folders[own] = u.source
	if r.Rules.Fresh {
		return r.holds(u.target)
	}
	return nil
}
