package create

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
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
	options := archive.Options{Name: filepath.Base(r.Archive), Parts: layout}
	if c.Writing.Password != "" {
		options.Passwords = []string{c.Writing.Password}
	}
	a, err := walk.OpenAs(c.Format, data, options)
	if err != nil {
		return mismatch(err)
	}
	defer a.Close()
	cursor := a.Cursor(c.ctx, nil)
	defer cursor.Close()
	entries := make([]archive.Entry, 0, len(c.found))
	for i := range c.found {
		entry, err := cursor.Next()
		if err == nil && entry.Kind == archive.Symlink {
			entry.Link, err = cursor.Link()
		}
		if err == nil {
			entries = append(entries, *entry)
			err = c.compare(&c.found[i], entry, cursor)
		}
		if err == io.EOF {
			err = fmt.Errorf("it has %d entries instead of %d", i, len(c.found))
		}
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		if err != nil {
			return mismatch(err)
		}
	}
	if _, err := cursor.Next(); err != io.EOF {
		return mismatch(errors.Join(errors.New("it does not end where it should"), err))
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
	cursor := a.Cursor(c.ctx, nil)
	defer cursor.Close()
	for {
		e, err := cursor.Next()
		if err != nil {
			return err == io.EOF // nothing in it is locked
		}
		if e.Kind != archive.Folder {
			_, err = io.CopyN(io.Discard, cursor, 1)
			return err == nil || err == io.EOF
		}
	}
}

func mismatch(err error) error {
	return fault.New(fault.Damaged, "what was written is not what was packed: %w", err).
		Advise("nothing was removed, and the archive was discarded; check the disk")
}

// compare checks an entry of the archive against what was packed.
func (c *collector) compare(it *item, e *archive.Entry, content io.Reader) error {
	if c.ctx.Err() != nil {
		return c.ctx.Err()
	}
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
	if _, err := io.Copy(sum, content); err != nil {
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
		case it.via != "": // what it leads to stays, and has to be as it was
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
