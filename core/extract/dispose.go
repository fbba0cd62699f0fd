package extract

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"widecrate/core/choose"
	"widecrate/core/fault"
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

// A Disposal is what became of one source.
type Disposal struct {
	Source string
	Kept   string // why it was kept; empty: it was removed or moved
	To     string // where it was moved
	Err    error  // of a removal or move that failed; the source is kept
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
func (e *engine) dispose() {
	if e.After.Disposition == Keep {
		return
	}
	synced := map[string]error{}
	for _, u := range e.sources {
		d := &Disposal{Source: u.outcome.Source.Path}
		switch {
		case u.failed:
			d.Kept = "not all of it could be unpacked"
		case u.untaken:
			d.Kept = "it was not taken"
		case len(u.partial) > 0 && !e.After.EvenIfPartial:
			d.Kept = "it was unpacked in part (" + strings.Join(u.partial, ", ") + ")"
		case e.DryRun:
			d.To = e.movedTo(u)
		default:
			e.disposeOf(u, d, synced)
		}
		e.observer.Source(d)
	}
}

func (e *engine) movedTo(u *unit) string {
	if e.After.Disposition != Move {
		return ""
	}
	return absolute(filepath.Join(e.After.Folder, u.outcome.Source.Name()))
}

func (e *engine) disposeOf(u *unit, d *Disposal, synced map[string]error) {
	root := absolute(u.target.Root)
	if _, done := synced[root]; !done {
		synced[root] = ignoreMissing(stage.Sync(root))
	}
	if d.Err = synced[root]; d.Err != nil {
		return
	}
	path := u.outcome.Source.Path
	now, err := os.Lstat(path)
	if err == nil && now.Mode()&os.ModeSymlink != 0 {
		d.Kept = "it is a link to an archive elsewhere"
		return
	}
	if err != nil || now.Size() != u.info.Size() || !now.ModTime().Equal(u.info.ModTime()) || !os.SameFile(now, u.info) {
		d.Kept = "it changed since it was unpacked"
		return
	}
	if e.After.Disposition == Remove {
		d.Err = fault.Writing(path, os.Remove(path))
		return
	}
	d.To = e.movedTo(u)
	d.Err = stage.Move(path, d.To)
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return nil // nothing was kept, and no root made
	}
	return err
}
