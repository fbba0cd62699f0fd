package extract

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/format"
	"widecrate/core/newfile"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/stage"
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
	Into          *place.Template // for Move, instead of Folder: with {today} and {parent}
	EvenIfPartial bool            // also where something was left out
}

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
		return
	}
	for rule := choose.Kept + 1; int(rule) < len(o.LeftOut); rule++ {
		if rule != choose.Clutter {
			note(o.LeftOut[rule], rule.String())
		}
	}
	skipped := 0
	for _, p := range o.Placed {
		if p.Action == stage.Skipped {
			skipped++
		}
	}
	note(skipped, "skipped")
	note(len(o.Lost), "lost")
}

// dispose removes or moves the sources that were delivered.
func (r *run) dispose() {
	if r.After.Disposition == Keep {
		return
	}
	var unready error
	if r.BeforeDisposal != nil && !r.DryRun {
		unready = r.BeforeDisposal()
	}
	synced := map[string]error{}
	r.moved = map[string]bool{}
	for _, u := range r.sources {
		d := &report.Disposal{Source: u.source.Path, DryRun: r.DryRun}
		switch {
		case unready != nil:
			d.Kept = "the receipt could not be written"
		case u.failed:
			d.Kept = "not all of it could be unpacked"
		case !u.taken || u.dropped:
			d.Kept = "it was not taken"
		case len(u.after.partial) > 0 && !r.After.EvenIfPartial:
			d.Kept = "it was unpacked in part (" + strings.Join(u.after.partial, ", ") + ")"
		default:
			r.disposeOf(u, d, synced)
		}
		r.tell(d)
	}
}

// Finish gives what source.Request needs to finish what killed runs were removing or
// moving; nil where sources stay.
func (a *After) Finish(today time.Time) func(folder string, names []string) (bool, error) {
	if a.Disposition == Keep {
		return nil
	}
	return func(folder string, names []string) (bool, error) {
		return newfile.FinishTaking(absolute(folder), names, func(path string) string {
			if a.Disposition == Remove {
				return ""
			}
			return absolute(a.folder(path, today))
		})
	}
}

// destinations are where the files of a source go, each with an empty path where
// it is removed: always, or because the same file is there already. Where another
// of its name is, all of them get a number.
func (r *run) destinations(u *unit) ([]string, error) {
	to := make([]string, len(u.after.files))
	if r.After.Disposition != Move {
		return to, nil
	}
	for n := 1; ; n++ {
		free := true
		for i, f := range u.after.files {
			to[i] = absolute(filepath.Join(r.After.folder(f.Path, r.Placement.Today), numberedName(filepath.Base(f.Path), n, len(u.after.files) > 1)))
			there, err := blob.Find(to[i])
			switch {
			case r.moved[to[i]]:
				free = false
			case errors.Is(err, fs.ErrNotExist):
			case err != nil:
				return nil, err
			default:
				same, err := blob.EqualFiles(f, there)
				if err != nil {
					return nil, err
				}
				if same {
					to[i] = ""
				} else {
					free = false
				}
			}
		}
		if free {
			for _, path := range to {
				r.moved[path] = path != ""
			}
			return to, nil
		}
	}
}

// folder is where an archive is moved to.
func (a *After) folder(path string, today time.Time) string {
	if a.Into != nil {
		return a.Into.Expand(place.Values{Name: filepath.Base(path), Parent: filepath.Base(filepath.Dir(absolute(path))), Today: today})
	}
	return a.Folder
}

// numberedName is name-2.zip for 2. The parts of a set keep what comes after the
// name of the whole.
func numberedName(name string, n int, part bool) string {
	if n == 1 {
		return name
	}
	stem := format.Stem(name)
	if part {
		stem, _, _ = strings.Cut(name, ".")
	}
	return fmt.Sprintf("%s-%d%s", stem, n, strings.TrimPrefix(name, stem))
}

// disposeOf removes or moves the files of a source: all of them, or none if one
// is not as it was, or one cannot go.
func (r *run) disposeOf(u *unit, d *report.Disposal, synced map[string]error) {
	if !r.DryRun {
		root := absolute(u.after.root)
		if _, done := synced[root]; !done {
			synced[root] = ignoreMissing(newfile.Sync(root))
		}
		if d.Err = cmp.Or(synced[root], newfile.SyncFiles(u.after.delivered)); d.Err != nil {
			return
		}
	}
	paths := make([]string, len(u.after.files))
	for i, f := range u.after.files {
		paths[i] = f.Path
		now, err := os.Lstat(f.Path)
		if err == nil && now.Mode()&os.ModeSymlink != 0 {
			d.Kept = "it is a link to an archive elsewhere"
			return
		}
		if err != nil || !f.Is(now) {
			d.Kept = "it changed since it was unpacked"
			return
		}
	}
	to, err := r.destinations(u)
	if err != nil {
		d.Err = err
		return
	}
	d.To = to[0]
	if !r.DryRun {
		d.Err = newfile.TakeAway(paths, to)
	}
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return nil // nothing was kept, and no root made
	}
	return err
}
