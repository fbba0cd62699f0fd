package create

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/report"
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
	for i := range c.found {
		entry, err := cursor.Next()
		if err == nil {
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
	return nil
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
func (c *collector) remove(r *report.Created) error {
	files, folders, kept := c.removable(r)
	if kept != "" {
		r.Kept = kept
		return nil
	}
	for _, path := range files {
		if err := os.Remove(path); err != nil {
			return notRemoved(path, err)
		}
		r.Removed++
	}
	for _, source := range c.Sources { // without its own entry where the top was dropped
		if info, err := os.Lstat(source); err == nil && info.IsDir() {
			if path, err := resolved(source); err == nil {
				folders = append(folders, path)
			}
		}
	}
	slices.SortFunc(folders, func(a, b string) int { return len(b) - len(a) })
	for _, path := range folders {
		// One in which something new lies stays.
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
			return notRemoved(path, err)
		}
	}
	return nil
}

func notRemoved(path string, err error) error {
	return fault.At(path, fault.New(fault.Unwritable, "it could not be removed, and those after it were not: %w", fault.Bare(err)).
		Advise("the archive is complete; remove what is left of the sources yourself"))
}

// removable lists the files, the links and the folders of the sources, or says why
// all of them are to be kept.
func (c *collector) removable(r *report.Created) (files, folders []string, kept string) {
	if n := r.LeftOut.LeftOut(); n > 0 {
		return nil, nil, fmt.Sprintf("%d files of them were left out", n)
	}
	if c.itself {
		return nil, nil, "the archive lies among them"
	}
	links := map[string]bool{}
	for i := range c.found {
		it := &c.found[i]
		switch {
		case it.path == "":
			continue
		case it.via != "":
			links[it.via] = true
		case it.entry.Kind == archive.Folder:
			folders = append(folders, it.path)
		default:
			files = append(files, it.path)
		}
		if it.entry.Kind == archive.Folder {
			continue
		}
		if now, err := os.Lstat(it.path); err != nil || !(blob.File{Path: it.path, Info: it.info}).Is(now) {
			return nil, nil, it.path + " has changed since it was packed"
		}
	}
	return slices.AppendSeq(files, maps.Keys(links)), folders, ""
}
