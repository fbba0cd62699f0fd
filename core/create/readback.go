package create

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// readBack reads the finished archive again, before it appears, and compares
// every entry with what was read from its source.
func (c *collector) readBack(out Output, r *report.Created) error {
	data, layout, err := out.Open()
	if err != nil {
		return err
	}
	opening := walk.Opening{Options: archive.Options{Name: filepath.Base(r.Archive), Parts: layout}, Limits: bound.Limits{Entries: math.MaxInt64}}
	if c.Writing.Password != "" {
		opening.Passwords = []string{c.Writing.Password}
	}
	a, err := walk.OpenAs(c.Format, data, opening)
	if err != nil {
		return mismatch(err)
	}
	defer a.Close()
	entries := make([]archive.Entry, 0, len(c.found))
	for entry, err := range a.Walk(c.ctx) {
		if err == nil && entry.Index == len(c.found) {
			err = errors.New("it does not end where it should")
		}
		if err == nil && entry.Kind == archive.Symlink {
			entry.Link, err = entry.Target()
		}
		if err == nil {
			entries = append(entries, *entry.Entry)
			err = c.compare(&c.found[entry.Index], entry)
		}
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		if err != nil {
			return mismatch(err)
		}
	}
	if len(entries) < len(c.found) {
		return mismatch(fmt.Errorf("it has %d entries instead of %d", len(entries), len(c.found)))
	}
	r.ReadBack = len(c.found)
	return unpackable(c.Format, entries)
}

// opens reports whether the password opens an archive that was made before: that is in no
// receipt.
func (c *collector) opens(earlier *report.Earlier) bool {
	if c.Writing.Password == "" {
		return true
	}
	sources, err := source.Find(c.ctx, source.Request{Names: earlier.Paths[:1]})
	if err != nil || len(sources) != 1 {
		return false
	}
	a, err := walk.Open(c.ctx, sources[0], walk.Opening{Options: archive.Options{Passwords: []string{c.Writing.Password}}})
	if err != nil {
		return false
	}
	defer a.Close()
	for e, err := range a.Walk(c.ctx) {
		if err != nil {
			return false
		}
		if e.Kind != archive.Folder {
			_, err = io.CopyN(io.Discard, e, 1)
			return err == nil || err == io.EOF
		}
	}
	return true // nothing in it is locked
}

func mismatch(err error) error {
	return fault.New(fault.Damaged, "what was written is not what was packed: %w", err).
		Advise("nothing was removed, and the archive was discarded; check the disk")
}

// compare checks an entry of the archive against what was packed.
func (c *collector) compare(it *item, e *walk.Entry) error {
	named := c.Format.Extensions != nil && c.Format.HoldsOne || e.Path == it.entry.Path && e.Kind == it.entry.Kind
	if !named {
		return fmt.Errorf("%s is there as %s", it.entry.Path, e.Path)
	}
	if it.entry.Kind != archive.File {
		if e.Link != it.entry.Link {
			return fmt.Errorf("%s is a link to %q instead of %q", e.Path, e.Link, it.entry.Link)
		}
		return nil
	}
	sum := crc32.NewIEEE()
	if _, err := io.Copy(bound.Meter{Context: c.ctx}.Writer(sum), e); err != nil {
		return fmt.Errorf("%s: %w", it.entry.Path, err)
	}
	if sum.Sum32() != it.sum {
		return fmt.Errorf("%s has the checksum %08x instead of %08x", it.entry.Path, sum.Sum32(), it.sum)
	}
	return nil
}

// remove takes the sources away that are in the archive now: all of them, or
// none where something of them was left out or has changed. What a link led to
// stays; the link goes.
func (c *collector) remove(r *report.Created, made []disposal.Record) (err error) {
	switch n := r.LeftOut.LeftOut(); {
	case n > 0:
		r.Kept = fmt.Sprintf("%d files of them were left out", n)
		return nil
	case c.itself:
		r.Kept = "the archive lies among them"
		return nil
	}
	files, folders, err := c.packed()
	if err == nil {
		r.Removed, err = disposal.Packed(files, folders, made)
	}
	if _, stays := errors.AsType[*disposal.Stays](err); stays {
		r.Kept, err = err.Error(), nil
	}
	return err
}

// packed are the files and links of the sources, each once, and their folders, the
// innermost first.
func (c *collector) packed() (files []blob.File, folders []string, err error) {
	seen := map[string]bool{}
	take := func(f blob.File) {
		if key := place.Key(f.Path); !seen[key] {
			seen[key] = true
			files = append(files, f)
		}
	}
	for i := range c.found {
		it := &c.found[i]
		switch {
		case it.path == "":
		case it.via != "": // what the link leads to stays, and has to be as it was
			info, err := os.Lstat(it.via)
			if err == nil && it.entry.Kind != archive.Folder {
				err = disposal.Unchanged([]blob.File{{Path: it.path, Info: it.info}})
			}
			if err != nil {
				return nil, nil, fault.Reading(it.via, err)
			}
			take(blob.File{Path: it.via, Info: info})
		case it.entry.Kind == archive.Folder:
			folders = append(folders, it.path)
		default:
			take(blob.File{Path: it.path, Info: it.info})
		}
	}
	for _, source := range c.Sources { // without its own entry where the top was dropped
		if info, err := os.Lstat(source); err == nil && info.IsDir() {
			if path, err := resolved(source); err == nil {
				folders = append(folders, path)
			}
		}
	}
	slices.SortFunc(folders, func(a, b string) int { return len(b) - len(a) })
	return files, slices.Compact(folders), nil
}
