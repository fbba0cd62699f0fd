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

// movedTo is where a source goes, by the name of its first file.
func (e *engine) movedTo(u *unit) string {
	if e.After.Disposition != Move {
		return ""
	}
	return e.moved(u.files[0].Path)
}

func (e *engine) moved(path string) string {
	return absolute(filepath.Join(e.After.Folder, filepath.Base(path)))
}

// disposeOf removes or moves the files of a source: all of them, or none if one
// is not as it was.
func (e *engine) disposeOf(u *unit, d *Disposal, synced map[string]error) {
	root := absolute(u.target.Root)
	if _, done := synced[root]; !done {
		synced[root] = ignoreMissing(stage.Sync(root))
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
		if err != nil || now.Size() != f.Info.Size() || !now.ModTime().Equal(f.Info.ModTime()) || !os.SameFile(now, f.Info) {
			d.Kept = "it changed since it was unpacked"
			return
		}
		if _, err := os.Lstat(e.moved(f.Path)); e.After.Disposition == Move && err == nil {
			d.To, d.Err = e.movedTo(u), fault.At(e.moved(f.Path), fault.New(fault.Refused, "it exists already"))
			return
		}
	}
	d.To = e.movedTo(u)
	for _, f := range u.files {
		if e.After.Disposition == Remove {
			d.Err = fault.Writing(f.Path, os.Remove(f.Path))
		} else {
			d.Err = stage.Move(f.Path, e.moved(f.Path))
		}
		if d.Err != nil {
			return
		}
	}
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return nil // nothing was kept, and no root made
	}
	return err
}
