// Package create makes archives from files on disk: it collects what goes in,
// checks that all of it is there, packs it, and lets the archive appear when it
// is complete.
package create

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/stage"
)

// Options is a request to make one archive.
type Options struct {
	Archive   string   // path of the archive; its extension tells the format
	Sources   []string // files and folders
	DropTop   bool     // leave the name of a source folder out of the paths
	Selection *choose.Selection
	Replace   bool // the archive may replace an existing file
}

// Result says what was packed.
type Result struct {
	Archive string // absolute path
	Entries []archive.Entry
	Files   int // files and links in the archive
	Size    int64
	Packed  int64 // size of the archive
	LeftOut choose.Tally
	Itself  bool // the archive lies in a source, and was left out
	Took    time.Duration
}

// Run makes the archive. Nothing is written before all sources were found.
// Errors are of kind fault.Usage (format, equal paths), fault.Unreadable (a
// source), fault.NoMatch (nothing to pack), fault.Refused (the archive exists)
// or fault.Unwritable; with any of them there is no archive.
func Run(ctx context.Context, o Options) (*Result, error) {
	started := time.Now()
	f, ok := format.ByName(filepath.Base(o.Archive))
	if !ok {
		return nil, fault.At(o.Archive, fault.New(fault.Usage, "its extension tells no format that widecrate writes").
			Advise("widecrate writes: "+strings.Join(format.Names(), ", ")))
	}
	target, err := filepath.Abs(o.Archive)
	if err != nil {
		return nil, fault.Writing(o.Archive, err)
	}
	if folder, err := filepath.EvalSymlinks(filepath.Dir(target)); err == nil {
		target = filepath.Join(folder, filepath.Base(target))
	}
	c := collector{Options: o, ctx: ctx, target: target, byPath: map[string]string{}}
	if err := c.collect(); err != nil {
		return nil, err
	}
	out, err := stage.Create(target, o.Replace)
	if err != nil {
		return nil, err
	}
	r := &Result{Archive: target, LeftOut: c.leftOut, Itself: c.itself}
	w, err := f.NewWriter(out)
	if err == nil {
		err = pack(ctx, w, c.found, r)
	}
	if err != nil {
		if discarded := out.Discard(); discarded != nil {
			err = fmt.Errorf("%w (and %w)", err, discarded)
		}
		return nil, err
	}
	info, err := out.Stat()
	if err != nil {
		out.Discard()
		return nil, fault.Writing(target, err)
	}
	r.Packed = info.Size()
	if err := out.Commit(o.Replace); err != nil {
		return nil, err
	}
	r.Took = time.Since(started)
	return r, nil
}

func pack(ctx context.Context, w archive.Writer, found []item, r *Result) error {
	for _, it := range found {
		entry, err := packOne(ctx, w, it)
		if err != nil {
			return err
		}
		r.Entries = append(r.Entries, entry)
		if entry.Kind != archive.Folder {
			r.Files++
			r.Size += entry.Size
		}
	}
	return w.Close()
}

func packOne(ctx context.Context, w archive.Writer, it item) (archive.Entry, error) {
	if it.entry.Kind != archive.File {
		entry, err := w.Add(it.entry, nil)
		return entry, fault.At(it.path, err)
	}
	f, err := os.Open(it.path)
	if err != nil {
		return it.entry, fault.Reading(it.path, err)
	}
	defer f.Close()
	entry, err := w.Add(it.entry, &input{ctx, f})
	return entry, fault.At(it.path, err)
}

// input reads a source until ctx is cancelled.
type input struct {
	ctx context.Context
	f   *os.File
}

func (in *input) Read(p []byte) (int, error) {
	if err := in.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := in.f.Read(p)
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}
