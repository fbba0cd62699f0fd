package extract

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"syscall"

	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// notePartial remembers, with the source, why not all of it was delivered.
func (u *unit) notePartial() {
	o := u.outcome
	note := func(n int, what string) {
		if n > 0 {
			u.top.partly(fmt.Sprintf("%d %s", n, what))
		}
	}
	if o.Err != nil {
		u.top.failed = true
		if after := u.top.after; after != nil && after.failure == nil {
			after.failure = o.Err
		}
		return
	}
	for rule := choose.Kept + 1; int(rule) < len(o.LeftOut); rule++ {
		if rule != choose.Clutter {
			note(o.LeftOut[rule], rule.String())
		}
	}
	if o.Entries > 0 && o.Entries == o.LeftOut.LeftOut() && o.LeftOut[choose.Clutter] == o.Entries {
		u.top.partly("nothing of it was kept")
	}
	skipped, lost := 0, len(o.Lost)
	for _, p := range o.Placed {
		switch p.Action {
		case stage.Skipped:
			skipped++
		case stage.Lost:
			lost++
		}
	}
	note(skipped, "skipped")
	note(len(o.Lost), "lost")
	if after := u.top.after; after != nil {
		after.some = after.some || len(o.Placed) > skipped+lost
		after.lost = after.lost || lost > 0
	}
	for _, r := range o.Remarks {
		if r.Partial {
			u.top.partly(r.Text)
		}
	}
}

const noReceipt = "the receipt could not be written"

// going is a source with all units that read it: a source may be named several times.
type going struct {
	units []*unit
	files []blob.File
}

// dispose removes or moves the sources that were delivered.
func (r *run) dispose() {
	if r.After.Disposition == disposal.Keep && r.Failed.Disposition == disposal.Keep {
		return
	}
	var unready error
	if r.BeforeDisposal != nil && !r.DryRun {
		unready = r.BeforeDisposal()
	}
	synced, nowhere := &synced{}, r.nowhere()
	r.route = r.After.Route(r.Placement.Today, false)
	failed := r.Failed.Route(r.Placement.Today, true)
	disposal.Each(r.ctx, r.groups(), func(group *disposal.Group) *report.Disposal {
		g := r.going(group)
		if why := g.failure(); why != nil && r.Failed.Disposition == disposal.Move {
			return r.setAside(g, why, failed, unready)
		}
		if r.After.Disposition == disposal.Keep {
			return nil
		}
		d := &report.Disposal{Source: g.units[0].source.Path, DryRun: r.DryRun}
		d.Kept = g.kept(&r.After)
		switch {
		case unready != nil:
			d.Kept = noReceipt
		case d.Kept == "" && nowhere != "":
			d.Kept = nowhere
		case d.Kept == "":
			r.disposeOf(g, d, synced)
		}
		return d
	}, func(d *report.Disposal) {
		if d != nil {
			r.tell(d)
		}
	})
}

// nowhere is why all sources stay where an entry that was asked for by its path is nowhere; empty: there is none.
func (r *run) nowhere() string {
	for _, s := range append([]*choose.Selection{r.Selection}, r.selections()...) {
		if entry := s.Nowhere(); entry != "" {
			return entry + " was asked for, and is nowhere"
		}
	}
	return ""
}

// selections are those of single sources.
func (r *run) selections() (all []*choose.Selection) {
	for _, alone := range r.Alone {
		if alone.Selection != nil {
			all = append(all, alone.Selection)
		}
	}
	return all
}

// groups brings together what reads the same files.
func (r *run) groups() []*disposal.Group {
	files := make([][]blob.File, len(r.kept))
	for i, u := range r.kept {
		if files[i] = u.after.files; files[i] == nil { // one that failed
			files[i] = u.after.seen
		}
		if files[i] == nil {
			files[i], _ = u.source.Files(r.ctx) // why there are none was reported
		}
	}
	return disposal.Together(files)
}

func (r *run) going(group *disposal.Group) *going {
	g := &going{files: group.Files}
	for _, i := range group.Of {
		g.units = append(g.units, r.kept[i])
	}
	return g
}

// kept is why a source stays; empty: nothing is known that speaks for it.
func (g *going) kept(after *disposal.After) string {
	for _, u := range g.units {
		to := ""
		if len(g.units) > 1 {
			to = " to " + u.after.root
		}
		switch {
		case u.failed:
			if len(u.after.delivered) == 0 {
				return "it could not be unpacked" + to
			}
			return "not all of it could be unpacked" + to
		case !u.taken || u.dropped:
			return "it was not taken"
		case u.after.lost && len(u.after.partial) > 0:
			return "not all of it could be had" + to + " (" + strings.Join(u.after.partial, ", ") + ")"
		case len(u.after.partial) > 0 && !u.after.some:
			return "nothing of it was kept" + to + " (" + strings.Join(u.after.partial, ", ") + ")"
		case len(u.after.partial) > 0 && !after.EvenIfPartial:
			return "it was unpacked in part" + to + " (" + strings.Join(u.after.partial, ", ") + ")"
		}
	}
	if len(g.files) == 0 {
		return "it is no file"
	}
	return ""
}

// disposeOf removes or moves the files of a source: all of them, or none if one
// is not as it was, or one cannot go.
func (r *run) disposeOf(g *going, d *report.Disposal, synced *synced) {
	if !r.DryRun {
		if d.Kept, d.Err = r.undelivered(g, synced); d.Kept != "" || d.Err != nil {
			return
		}
	}
	d.Taken = r.route.Take(r.ctx, g.files, nil, r.DryRun)
}

// undelivered makes sure that all of a source is on the disk, and there as it was
// recorded, or as a later archive of this run replaced it.
func (r *run) undelivered(g *going, synced *synced) (kept string, err error) {
	for _, u := range g.units {
		if err := cmp.Or(synced.sync(storage.Absolute(u.after.root)), disposal.SyncFiles(u.after.delivered)); err != nil {
			return "", err
		}
		for _, record := range u.after.delivered {
			switch {
			case record.Holds():
			case !r.replacement(record.Path).Holds():
				return "what was delivered is not there any more: " + record.Path, nil
			case r.After.Disposition == disposal.Remove && r.Rules.Keep == "": // it would be nowhere
				return "another archive of this run has replaced what it delivered: " + record.Path, nil
			}
		}
	}
	return "", nil
}

// synced are the roots that were written through to the disk, each once.
type synced struct {
	sync.Mutex
	roots map[string]error
}

func (s *synced) sync(root string) error {
	s.Lock()
	defer s.Unlock()
	err, done := s.roots[root]
	if !done {
		if s.roots == nil {
			s.roots = map[string]error{}
		}
		err = ignoreMissing(disposal.Sync(root))
		s.roots[root] = err
	}
	return err
}

// replacement is the last that was delivered at a path.
func (r *run) replacement(path string) disposal.Record {
	r.telling.Lock()
	defer r.telling.Unlock()
	if r.latest == nil {
		r.latest = map[string]disposal.Record{}
		for _, u := range r.kept {
			for _, record := range u.after.delivered {
				r.latest[place.Key(record.Path)] = record
			}
		}
	}
	return r.latest[place.Key(path)]
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return nil // nothing was kept, and no root made
	}
	return err
}
