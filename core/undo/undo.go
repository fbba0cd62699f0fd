// Package undo takes back what a receipt says that a run did: what it delivered is removed, as
// far as it is still as it was delivered and what it came from is there; sources that it moved, and
// what it replaced and kept, come back.
package undo

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/newfile"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/report"
	"widecrate/core/schedule"
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

// Run takes runs back, the latest first, and reports a *report.Returned for each file of a
// source that it moves back, and a *report.Undone for each archive. A run that was taken back
// before, or in part, is brought to its end. A run that is not there is of kind fault.NoMatch.
func Run(ctx context.Context, o Options, tell report.Sink) error {
	runs, err := o.Receipts.Runs()
	if err != nil {
		return err
	}
	first, last := 0, len(runs)
	switch {
	case o.All:
	case o.Run == 0 && last > 0:
		first = last - 1
	case o.Run < 1 || o.Run > last:
		return fault.New(fault.NoMatch, "there is no such run: the receipt has %d", last)
	default:
		first, last = o.Run-1, o.Run
	}
	later, err := delivered(runs[last:])
	if err != nil {
		return err
	}
	would := map[string]bool{}
	for _, run := range slices.Backward(runs[first:last]) {
		t := &taking{Options: &o, ctx: ctx, run: run, later: later, last: map[string]int{}, returned: map[string]bool{}, stuck: map[string]bool{},
			would: would, made: map[string]bool{}, empty: map[string]bool{}, back: map[string]bool{}}
		if err := t.all(tell); err != nil {
			return err
		}
	}
	return nil
}

// delivered are the paths that runs delivered.
func delivered(runs []*receipt.PastRun) (map[string]bool, error) {
	paths := map[string]bool{}
	for _, run := range runs {
		for _, p := range run.Units {
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
			all = append(all, file{rows[i], filepath.Join(p.Unit.Root, filepath.FromSlash(rows[i].Path))})
		}
		return all, nil
	}
	parts := p.Unit.Parts
	if p.Unit.List != nil {
		parts = append(slices.Clone(parts), *p.Unit.List)
	}
	for _, part := range parts {
		all = append(all, file{receipt.File{Kept: part.Kept, Replaced: part.Kept != "", Type: archive.File.String(), Size: part.Size, Modified: part.Modified, SHA256: part.SHA256}, part.Path})
	}
	return all, nil
}

// taking is one run that is taken back.
type taking struct {
	*Options
	ctx      context.Context
	run      *receipt.PastRun
	later    map[string]bool // what later runs delivered
	last     map[string]int  // the last unit of the run that delivered a path
	returned map[string]bool // sources that are, or would be, where they were
	stuck    map[string]bool // sources that could not be moved there

	inTurn bool // one archive after the other

	mu    sync.Mutex
	would map[string]bool // in a dry run, paths that would be free by then; true: what was replaced would be back
	made  map[string]bool // folders that the run made
	empty map[string]bool // folders in them that may be empty now
	back  map[string]bool // folders that are back, and stay
}

func (t *taking) all(tell report.Sink) error {
	units := slices.DeleteFunc(slices.Clone(t.run.Units), func(p *receipt.Past) bool { return p.Undone })
	if len(units) == 0 && t.run.Units != nil {
		return nil // by now, its sources may have been moved by another
	}
	for _, m := range t.run.Moved {
		back, err := t.moveBack(&m)
		t.returned[place.Key(m.From)] = err == nil
		if fault.Of(err) == fault.Unwritable {
			t.stuck[place.Key(m.From)] = true
		}
		if back || err != nil {
			tell(&report.Returned{Path: m.From, From: m.To, DryRun: t.DryRun, Err: err})
		}
	}
	slices.Reverse(units)
	for i, p := range slices.Backward(units) {
		files, err := files(p)
		if err != nil {
			return err
		}
		for j := range files {
			if files[j].Kept != "" { // what an earlier archive of the run put there comes back first
				t.inTurn = true
				continue
			}
			t.last[place.Key(files[j].at)] = i
		}
	}
	workers := t.Workers
	if t.inTurn {
		workers = 1
	}
	type outcome struct {
		*report.Undone
		of *receipt.Past
	}
	_, err := schedule.Each(t.ctx, len(units), schedule.Options{Workers: workers}, func(i int) (outcome, error) {
		u := &report.Undone{Archive: units[i].Unit.Archive, Target: units[i].Unit.Destination, DryRun: t.DryRun}
		started := time.Now()
		u.Err = fault.Guard(func() error { return t.unit(i, units[i], u) })
		u.Took = report.Since(started)
		return outcome{u, units[i]}, u.Err
	}, func(o outcome) {
		if t.Done != nil && !t.DryRun && o.Err == nil {
			t.Done(o.of)
		}
		tell(o.Undone)
	})
	if err != nil || t.DryRun {
		return err
	}
	return t.clear()
}

// moveBack moves a file of a source back to where it was; see disposal.Return.
func (t *taking) moveBack(m *receipt.Moved) (bool, error) {
	if !remote.IsAddress(m.To) {
		return disposal.Return(m.To, m.From, m.Size, m.Modified, t.DryRun)
	}
	from, err := t.Sites.Address(m.To)
	if err != nil {
		return false, err
	}
	to, err := from.OnSameHost(m.From)
	if err != nil {
		return false, err
	}
	return disposal.ReturnAt(t.ctx, from, to, m.Size, m.Modified, t.DryRun)
}

// unit takes one archive back.
func (t *taking) unit(i int, p *receipt.Past, u *report.Undone) error {
	if err := t.sources(p); err != nil {
		return err
	}
	all, err := files(p)
	if err != nil {
		return err
	}
	same := 0
	for j := range all {
		if all[j].Same {
			same++
		}
	}
	if same != p.Unit.Same {
		return fault.At(u.Archive, fault.New(fault.Refused, "the receipt does not say which of its files were there before: it is of an earlier version").
			Advise("nothing of the archive was removed"))
	}
	gone, err := t.look(i, p, all, u)
	if err != nil {
		return err
	}
	from := map[string]bool{} // folders
	for _, f := range gone {
		if !f.Remote {
			from[filepath.Dir(f.Path)] = true
		}
	}
	for dir := range from {
		if err := disposal.Removable(dir); err != nil {
			return err
		}
	}
	if u.Removed = len(gone); !t.DryRun {
		if err := t.remove(p, all, gone, u); err != nil {
			return err
		}
	}
	for _, f := range gone {
		u.Paths = append(u.Paths, f.Path)
		t.foretell(f.Path, false)
	}
	if err := t.restore(p, all, u); err != nil {
		return err
	}
	t.note(p, from)
	return nil
}

// remove removes what was delivered. What it replaced takes its place at once, so that there is no
// moment in which neither is there.
func (t *taking) remove(p *receipt.Past, all []file, gone []blob.File, u *report.Undone) error {
	kept := map[string]string{} // by the path of what replaced it
	for i := range all {
		kept[all[i].at] = all[i].Kept
		if p.Unit.Swapped != "" {
			kept[all[i].at] = filepath.Join(p.Unit.Swapped, place.Below(p.Unit.Destination, all[i].at))
		}
	}
	over := func(f blob.File) bool {
		info, err := os.Lstat(kept[f.Path])
		return !f.Remote && err == nil && !info.IsDir()
	}
	u.Removed = 0
	var rest []blob.File
	for _, f := range gone {
		if !over(f) {
			rest = append(rest, f)
			continue
		}
		if err := disposal.Reinstate(kept[f.Path], f); err != nil {
			return err
		}
		u.Removed++
		u.Restored++
	}
	removed, err := disposal.Delivered(t.ctx, rest)
	u.Removed += removed
	return err
}

// foretell takes note of what would be at a path after a dry run; see taking.would.
func (t *taking) foretell(path string, back bool) {
	if t.DryRun {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.would[place.Key(path)] = back
	}
}

func (t *taking) wouldBe(path string) (back, would bool) {
	if !t.DryRun {
		return false, false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	back, would = t.would[place.Key(path)]
	return back, would
}

// restore puts back what was replaced, where nothing is now.
func (t *taking) restore(p *receipt.Past, all []file, u *report.Undone) error {
	stays := map[string]bool{}
	for _, s := range u.Stays {
		stays[s.Path] = true
	}
	back := func(kept, to string) {
		if stays[to] {
			return
		}
		restored, err := disposal.Restore(kept, to, t.DryRun)
		switch {
		case err != nil:
			u.Stays = append(u.Stays, report.Stayed{Path: kept, Err: err})
		case restored:
			u.Restored++
			t.foretell(to, true)
		}
	}
	for i := range all {
		if all[i].Kept != "" {
			back(all[i].Kept, all[i].at)
		}
	}
	for _, part := range p.Unit.Gone {
		back(part.Kept, part.Path)
	}
	if p.Unit.Swapped == "" {
		return nil
	}
	return filepath.WalkDir(p.Unit.Swapped, func(at string, d fs.DirEntry, err error) error {
		to := filepath.Join(p.Unit.Destination, place.Below(p.Unit.Swapped, at))
		switch {
		case errors.Is(err, fs.ErrNotExist): // it is back already
			return nil
		case err != nil:
			return fault.Reading(at, err)
		case !d.IsDir():
			back(at, to)
			return nil
		}
		t.mu.Lock()
		defer t.mu.Unlock()
		t.empty[at], t.back[to] = true, true
		if t.DryRun {
			return nil
		}
		_, err = folder.MakeAll(to)
		return fault.Writing(to, err)
	})
}
