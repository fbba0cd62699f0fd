// Package undo takes back what a receipt says that a run did: what it delivered is removed, as
// far as it is still as it was delivered and what it came from is there; sources that it moved, and
// what it replaced and kept, come back.
package undo

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/storage"
)

// Options is a request to take runs back.
type Options struct {
	Receipts *receipt.Receipts
	Sites    newfile.Sites
	Run      int                 // its number, from 1; 0: the last
	All      bool                // all of them instead
	DryRun   bool                // find out what would be done, and do nothing
	Workers  int                 // 0: one for each processor
	Done     func(*receipt.Past) // writes down what was taken back; nil: nobody asks
}

// Select finds the runs to be taken back among all of a receipt, and those after them. One that is not there
// is of kind fault.NoMatch.
func (o *Options) Select(runs []*receipt.PastRun) (chosen, later []*receipt.PastRun, err error) {
	first, last := 0, len(runs)
	switch {
	case o.All:
	case o.Run == 0 && last > 0:
		first = last - 1
	case o.Run < 1 || o.Run > last:
		return nil, nil, fault.New(fault.NoMatch, "there is no such run: the receipt has %d", last)
	default:
		first, last = o.Run-1, o.Run
	}
	return runs[first:last], runs[last:], nil
}

// Run takes runs back, the latest first, and reports a *report.Run for each, a *report.Returned for each
// file of a source that it moves back, and a *report.Undone for each archive. A run that was taken back
// before, or in part, is brought to its end. A run that is not there is of kind fault.NoMatch.
func Run(ctx context.Context, o Options, tell report.Sink) error {
	runs, err := o.Receipts.Runs()
	if err != nil {
		return err
	}
	chosen, rest, err := o.Select(runs)
	if err != nil {
		return err
	}
	later, err := delivered(rest)
	if err != nil {
		return err
	}
	would := &foreseen{}
	for _, run := range slices.Backward(chosen) {
		tell(run.Report())
		for _, c := range slices.Backward(run.Commands) {
			t := &taking{Options: &o, ctx: ctx, run: c, later: later, would: would, last: map[string]int{}, stuck: map[string]bool{},
				empty: map[string]bool{}, back: map[string]bool{}}
			if err := t.all(tell); err != nil {
				return err
			}
		}
	}
	return nil
}

// delivered are the paths that runs delivered.
func delivered(runs []*receipt.PastRun) (map[string]bool, error) {
	paths := map[string]bool{}
	for _, run := range runs {
		for _, c := range run.Commands {
			for _, p := range c.Units {
				if p.Undone {
					continue
				}
				files, err := files(p)
				if err != nil {
					return nil, err
				}
				for i := range files {
					paths[place.Key(files[i].at)] = true
				}
			}
		}
	}
	return paths, nil
}

// file is one that was delivered, and where.
type file struct {
	receipt.File
	at string
}

// files are those that a unit delivered: of an archive that was made, its own.
func files(p *receipt.Past) (all []file, err error) {
	if p.Unit.Parts == nil {
		rows, err := p.Files()
		if err != nil {
			return nil, err
		}
		for i := range rows {
			all = append(all, file{rows[i], storage.Join(p.Unit.Root, filepath.FromSlash(rows[i].Path))})
		}
		return all, nil
	}
	parts := p.Unit.Parts
	if p.Unit.List != nil {
		parts = append(slices.Clone(parts), *p.Unit.List)
	}
	for _, part := range parts {
		all = append(all, file{receipt.File{Was: part.Was, Replaced: part.Replaced || part.Kept != "", Type: archive.File.String(), Size: part.Size, Modified: part.Modified, SHA256: part.SHA256}, part.Path})
	}
	return all, nil
}

// taking is one command of a run that is taken back.
type taking struct {
	*Options
	ctx   context.Context
	run   *receipt.PastCommand
	later map[string]bool // what later runs delivered
	would *foreseen
	last  map[string]int  // the last unit of the command that delivered a path
	stuck map[string]bool // sources that could not be moved back

	mu      sync.Mutex
	grounds []*disposal.Ground // that nobody uses now
	empty   map[string]bool    // folders that the command made, which may be empty now
	back    map[string]bool    // folders that are back, and stay
}

// foreseen is what would be at paths after what a dry run does not do: a sum, or nothing.
type foreseen struct {
	mu   sync.Mutex
	sums map[string]string
}

// asMoved stands for the sum of a source of which size and time are all that is known.
const asMoved = "as it was moved"

func (f *foreseen) set(path, sum string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.sums == nil {
		f.sums = map[string]string{}
	}
	f.sums[place.Key(path)] = sum
}

func (f *foreseen) at(path string) (sum string, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	sum, known = f.sums[place.Key(path)]
	return sum, known
}

func (t *taking) all(tell report.Sink) error {
	units := slices.DeleteFunc(slices.Clone(t.run.Units), func(p *receipt.Past) bool { return p.Undone })
	if len(units) == 0 && t.run.Units != nil {
		return nil // by now, its sources may have been moved by another
	}
	defer t.leave()
	ground := t.ground()
	for i := range t.run.Moved {
		m := &t.run.Moved[i]
		back, err := t.moveBack(ground, m)
		switch {
		case err == nil && t.DryRun:
			t.would.set(m.From, cmp.Or(m.SHA256, asMoved))
		case fault.Of(err) == fault.Unwritable:
			t.stuck[place.Key(m.From)] = true
		}
		if back || err != nil {
			tell(&report.Returned{Path: m.From, From: m.To, DryRun: t.DryRun, Err: err})
		}
	}
	t.done(ground)
	slices.Reverse(units)
	workers := t.Workers
	for i, p := range slices.Backward(units) {
		files, err := files(p)
		if err != nil {
			return err
		}
		if p.Unit.Gone != nil {
			workers = 1
		}
		for j := range files {
			switch {
			case files[j].Kept != "": // what an earlier archive of the command put there comes back first
				workers = 1
			case !files[j].Same:
				t.last[place.Key(files[j].at)] = i
			}
		}
	}
	type outcome struct {
		*report.Undone
		of *receipt.Past
	}
	var done []*receipt.Past
	_, err := schedule.Each(t.ctx, len(units), schedule.Options{Workers: workers}, func(i int) (outcome, error) {
		u := &report.Undone{Archive: units[i].Unit.Archive, Target: units[i].Unit.Destination, DryRun: t.DryRun}
		started := time.Now()
		u.Err = fault.Guard(func() error { return t.unit(i, units[i], u) })
		u.Took = report.Since(started)
		return outcome{u, units[i]}, u.Err
	}, func(o outcome) {
		if o.Err == nil && o.Stays == nil {
			done = append(done, o.of)
		}
		tell(o.Undone)
	})
	if err != nil || t.DryRun {
		return err
	}
	if err := t.clear(); err != nil {
		return err
	}
	for _, p := range done { // should this be killed before, the next undo goes on
		if t.Done != nil {
			t.Done(p)
		}
	}
	return nil
}

// ground is where the run said that it would write; done gives it back.
func (t *taking) ground() *disposal.Ground {
	t.mu.Lock()
	defer t.mu.Unlock()
	if last := len(t.grounds) - 1; last >= 0 {
		g := t.grounds[last]
		t.grounds = t.grounds[:last]
		return g
	}
	return disposal.NewGround(t.Sites.Sites, t.run.Roots)
}

// leave lets go of all folders that nobody uses now.
func (t *taking) leave() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, g := range t.grounds {
		g.Close()
	}
}

func (t *taking) done(g *disposal.Ground) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.grounds = append(t.grounds, g)
}

// moveBack moves a file of a source back to where it was, with the file that said why it had failed gone, and reports
// whether it did, or in a dry run would: it may be there already.
func (t *taking) moveBack(g *disposal.Ground, m *receipt.Moved) (bool, error) {
	if sum, would := t.would.at(m.To); would && sum == cmp.Or(m.SHA256, asMoved) { // a later run would bring it back there
		return true, nil
	}
	back, err := g.Return(&disposal.Source{From: m.From, To: m.To, SHA256: m.SHA256, Size: m.Size, Modified: m.Modified, Copy: m.There}, t.DryRun)
	if err == nil && m.Reason != "" && !t.DryRun {
		if seen, missing := g.See(m.Reason); missing == nil {
			if sum, unread := seen.ReasonSum(); unread == nil && sum == m.ReasonSHA256 {
				err = g.TakeAway(seen)
			}
		}
	}
	return back, err
}

// unit takes one archive back: all of it, but for files that were altered since.
func (t *taking) unit(i int, p *receipt.Past, u *report.Undone) error {
	all, err := files(p)
	if err == nil {
		err = t.sound(p, all)
	}
	if err != nil {
		return err
	}
	gone, err := t.look(i, p, all, u)
	if err == nil && len(gone.here)+len(gone.foreseen) > 0 { // else an undo that was killed has removed it
		err = t.sources(p)
	}
	if err != nil {
		return err
	}
	g := t.ground()
	defer t.done(g)
	kept, err := t.kept(g, p, all, u)
	if err != nil {
		return err
	}
	for _, seen := range gone.here {
		if err := g.Removable(seen); err != nil {
			return err
		}
	}
	swapped, err := t.swapped(g, p)
	if err != nil {
		return err
	}
	// What has a place of its own comes back first: there is no moment in which neither is there.
	over := map[string]bool{}
	for _, seen := range gone.here {
		over[place.Key(seen.Path)] = true
	}
	t.restore(g, kept, func(key string) bool { return !over[key] }, u)
	if err := t.remove(g, gone, kept, u); err != nil {
		return err
	}
	t.note(p, all)
	if p.Unit.Swapped != "" && !t.DryRun {
		g.Close()                         // not every system removes what is open
		if err := t.clear(); err != nil { // a new folder may have had the place of an old file
			return err
		}
	}
	for _, w := range t.restore(g, kept, func(string) bool { return true }, u) {
		u.Stays = append(u.Stays, report.Stayed{Path: w.Kept, Err: w.err})
	}
	return t.unswap(g, swapped)
}

// remove removes what was delivered. What it replaced takes its place at once, so that there is no
// moment in which neither is there.
func (t *taking) remove(g *disposal.Ground, gone going, kept map[string]*was, u *report.Undone) error {
	for _, seen := range gone.here {
		over := kept[place.Key(seen.Path)]
		switch {
		case over == nil:
			if !t.DryRun {
				if err := g.TakeAway(seen); err != nil {
					return err
				}
			}
			t.foresee(seen.Path, "")
		default:
			if !t.DryRun {
				if err := g.Replace(over.seen, seen); err != nil {
					return err
				}
			}
			over.back = true
			u.Restored++
			t.foresee(seen.Path, over.KeptSHA256)
		}
		u.Removed++
		u.Paths = append(u.Paths, seen.Path)
	}
	for _, path := range gone.foreseen {
		u.Removed++
		u.Paths = append(u.Paths, path)
		t.foresee(path, "")
	}
	return nil
}

// foresee takes note, in a dry run, of what would be at a path.
func (t *taking) foresee(path, sum string) {
	if t.DryRun {
		t.would.set(path, sum)
	}
}

// restore puts some of what was replaced back, where nothing is now, and returns what it could not.
func (t *taking) restore(g *disposal.Ground, kept map[string]*was, which func(key string) bool, u *report.Undone) (left []*was) {
	for _, key := range sorted(kept) {
		w := kept[key]
		if w.back || !which(key) {
			continue
		}
		if w.err = t.putBack(g, w); w.err != nil {
			left = append(left, w)
			continue
		}
		w.back = true
		u.Restored++
		t.foresee(w.at, w.KeptSHA256)
	}
	return left
}

func (t *taking) putBack(g *disposal.Ground, w *was) error {
	if sum, would := t.would.at(w.at); would {
		if sum != "" {
			return disposal.Existing(w.at)
		}
		return nil
	}
	there, err := g.See(w.at)
	switch {
	case err == nil && there.Is(w.KeptSHA256): // killed in between
		if t.DryRun {
			return nil
		}
		return g.TakeAway(w.seen)
	case err == nil:
		return disposal.Existing(w.at)
	case !errors.Is(err, fs.ErrNotExist):
		return fault.Reading(w.at, err)
	case t.DryRun:
		return nil
	}
	return g.Move(w.seen, w.at)
}
