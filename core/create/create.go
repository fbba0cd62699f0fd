// Package create makes archives from files on disk: it collects what goes in,
// checks that all of it is there, packs it, and lets the archive appear when it
// is complete.
package create

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/parts"
)

// Options is a request to make one archive.
type Options struct {
	Archive   string   // path of the archive; its extension tells the format
	Sources   []string // files and folders
	DropTop   bool     // leave the name of a source folder out of the paths
	Selection *choose.Selection
	Replace   bool       // the archive may replace an existing file
	Cut       *parts.Cut // into parts; nil: it is one file
	Writing   archive.WriteOptions
	Read      *atomic.Int64 // counts the bytes of the sources that were read so far
}

// Result says what was packed.
type Result struct {
	Archive string // absolute path
	Entries []archive.Entry
	Files   int // files and links in the archive
	Size    int64
	Packed  int64          // size of the archive
	Parts   *parts.Written // nil: it is one file
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
	if o.Read == nil {
		o.Read = new(atomic.Int64)
	}
	f, err := formatOf(o.Archive)
	if err != nil {
		return nil, err
	}
	target, err := filepath.Abs(o.Archive)
	if err != nil {
		return nil, fault.Writing(o.Archive, err)
	}
	if folder, err := filepath.EvalSymlinks(filepath.Dir(target)); err == nil {
		target = filepath.Join(folder, filepath.Base(target))
	}
	c := collector{Options: o, ctx: ctx, itsOwn: map[string]bool{target: true}, byPath: map[string]string{}}
	if o.Cut != nil {
		if err := c.leaveOutParts(target); err != nil {
			return nil, err
		}
	}
	if err := c.collect(); err != nil {
		return nil, err
	}
	out, err := newOutput(target, o, f)
	if err != nil {
		return nil, err
	}
	r := &Result{Archive: target, LeftOut: c.leftOut, Itself: c.itself}
	w, err := out.start(f, o.Writing)
	if err == nil {
		err = c.pack(w, r)
	}
	if err != nil {
		return nil, errors.Join(err, out.discard())
	}
	if err := out.commit(r); err != nil {
		return nil, err
	}
	r.Took = time.Since(started)
	return r, nil
}

func (c *collector) pack(w archive.Writer, r *Result) error {
	for _, it := range c.found {
		entry, err := c.packOne(w, it)
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

func (c *collector) packOne(w archive.Writer, it item) (archive.Entry, error) {
	if it.entry.Kind != archive.File {
		entry, err := w.Add(it.entry, nil)
		return entry, fault.At(it.path, err)
	}
	f, err := os.Open(it.path)
	if err != nil {
		return it.entry, fault.Reading(it.path, err)
	}
	defer f.Close()
	entry, err := w.Add(it.entry, &input{c.ctx, f, c.Read})
	if fault.Of(err) == fault.Unwritable {
		return entry, err // it is not the source's fault
	}
	return entry, fault.At(it.path, err)
}

// input reads a source until ctx is cancelled.
type input struct {
	ctx  context.Context
	f    *os.File
	read *atomic.Int64
}

func (in *input) Read(p []byte) (int, error) {
	if err := in.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := in.f.Read(p)
	in.read.Add(int64(n))
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}
