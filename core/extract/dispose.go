package extract

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"widecrate/core/choose"
	"widecrate/core/newfile"
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
	Folder        string // for Move
	EvenIfPartial bool   // also where something was left out
}

// notePartial remembers, with the source, why not all of it was delivered.
func (u *unit) notePartial() {
	o := &u.outcome
	note := func(n int, what string) {
		if n > 0 {
			u.top.partial = append(u.top.partial, fmt.Sprintf("%d %s", n, what))
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
	synced := map[string]error{}
	for _, u := range r.sources {
		d := &report.Disposal{Source: u.outcome.Source.Path, DryRun: r.DryRun}
		switch {
		case u.failed:
			d.Kept = "not all of it could be unpacked"
		case !u.taken || u.dropped:
			d.Kept = "it was not taken"
		case len(u.partial) > 0 && !r.After.EvenIfPartial:
			d.Kept = "it was unpacked in part (" + strings.Join(u.partial, ", ") + ")"
		case r.DryRun:
			d.To = r.movedTo(u)
		default:
			r.disposeOf(u, d, synced)
		}
		r.tell(d)
	}
}

// movedTo is where a source goes, by the name of its first file.
func (r *run) movedTo(u *unit) string {
	if r.After.Disposition != Move {
		return ""
	}
	return r.moved(u.files[0].Path)
}

func (r *run) moved(path string) string {
	return absolute(filepath.Join(r.After.Folder, filepath.Base(path)))
}

// disposeOf removes or moves the files of a source: all of them, or none if one
// is not as it was, or one cannot go.
func (r *run) disposeOf(u *unit, d *report.Disposal, synced map[string]error) {
	root := absolute(u.target.Root)
	if _, done := synced[root]; !done {
		synced[root] = ignoreMissing(newfile.Sync(root))
	}
	if d.Err = synced[root]; d.Err != nil {
		return
	}
	for _, f := range u.files {
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
	to := make([]string, len(u.files))
	for i, f := range u.files {
		if to[i] = r.moved(f.Path); r.After.Disposition == Remove {
			to[i] = ""
		}
	}
	paths := make([]string, len(u.files))
	for i, f := range u.files {
		paths[i] = f.Path
	}
	d.To = r.movedTo(u)
	d.Err = newfile.TakeAway(paths, to)
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return nil // nothing was kept, and no root made
	}
	return err
}
