package create

import (
	"context"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/parts"
)

// item is something on disk that goes into the archive.
type item struct {
	path  string
	entry archive.Entry
}

// collector finds what goes into an archive, and where.
type collector struct {
	Options
	ctx     context.Context
	itsOwn  map[string]bool // absolute paths of the archive, or its parts
	found   []item
	byPath  map[string]string // path in the archive → path on disk
	leftOut choose.Tally
	itself  bool
}

// leaveOutParts finds the parts of an earlier set that is to be replaced.
func (c *collector) leaveOutParts(target string) error {
	for _, name := range c.Cut.Names(target) {
		set, err := parts.Of(name, nil)
		if err != nil && fault.Of(err) != fault.Unreadable { // a missing folder is told when it is written to
			return err
		}
		c.itsOwn[name] = true
		if set != nil {
			for _, path := range set.Present() {
				c.itsOwn[path] = true
			}
		}
	}
	return nil
}

func (c *collector) collect() error {
	var missing []string
	for _, source := range c.Sources {
		if _, err := os.Stat(source); err != nil {
			missing = append(missing, fault.Reading(source, err).Error())
		}
	}
	if missing != nil {
		return fault.New(fault.Unreadable, "%s", strings.Join(missing, "; ")).
			Advise("nothing was written; a name is taken to the letter, check it and the folder you run in")
	}
	for _, source := range c.Sources {
		if err := c.addSource(source); err != nil {
			return err
		}
	}
	if len(c.found) > 0 {
		return nil
	}
	if c.leftOut.LeftOut() > 0 {
		return fault.New(fault.NoMatch, "none of %d files matches the selection", c.leftOut.LeftOut())
	}
	return fault.New(fault.NoMatch, "there is nothing to pack in %s", strings.Join(c.Sources, ", "))
}

// addSource adds a file, or a folder with all below it. A source that is a link
// stands for what it points at; links below are stored as links.
func (c *collector) addSource(source string) error {
	absolute, err := filepath.Abs(source)
	if err == nil {
		absolute, err = filepath.EvalSymlinks(absolute)
	}
	if err != nil {
		return fault.Reading(source, err)
	}
	top := filepath.Base(filepath.Clean(source))
	if top == "." || top == ".." {
		top = filepath.Base(absolute)
	}
	return filepath.WalkDir(absolute, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return fault.Reading(at, err)
		}
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		rel, err := filepath.Rel(absolute, at)
		if err != nil {
			return fault.Reading(at, err)
		}
		inside := path.Join(top, filepath.ToSlash(rel))
		if (c.DropTop && d.IsDir() || top == string(filepath.Separator)) && rel == "." {
			return nil
		}
		if c.DropTop && rel != "." {
			inside = filepath.ToSlash(rel)
		}
		if c.itsOwn[at] {
			c.itself = true
			return nil
		}
		return c.add(at, inside, d)
	})
}

func (c *collector) add(at, inside string, d fs.DirEntry) error {
	info, err := d.Info()
	if err != nil {
		return fault.Reading(at, err)
	}
	entry := archive.Entry{Path: inside, Modified: info.ModTime(), Mode: info.Mode().Perm(), HasMode: true, Size: info.Size()}
	verdict := choose.Kept
	switch mode := info.Mode(); {
	case mode.IsDir():
		entry.Kind, entry.Size = archive.Folder, 0
	case mode&fs.ModeSymlink != 0:
		entry.Kind = archive.Symlink
		if entry.Link, err = os.Readlink(at); err != nil {
			return fault.Reading(at, err)
		}
		entry.Link = filepath.ToSlash(entry.Link)
	case !mode.IsRegular():
		verdict = choose.Special
	}
	if verdict == choose.Kept {
		verdict = c.Selection.Judge(&entry)
	}
	switch {
	case verdict == choose.Dropped && entry.Kind == archive.Folder:
		return c.countDropped(at)
	case entry.Kind != archive.Folder:
		c.leftOut[verdict]++
	}
	if verdict != choose.Kept {
		return nil
	}
	if other, taken := c.byPath[inside]; taken {
		if entry.Kind == archive.Folder {
			return nil
		}
		return fault.New(fault.Usage, "%s and %s would both be %s in the archive", other, at, inside).
			Advise("pack them in separate archives, or keep the folders apart with --top keep")
	}
	c.byPath[inside] = at
	c.found = append(c.found, item{at, entry})
	return nil
}

// countDropped counts the files below a dropped folder without a look at each.
func (c *collector) countDropped(folder string) error {
	err := filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			c.leftOut[choose.Dropped]++
		}
		return err
	})
	if err != nil {
		return fault.Reading(folder, err)
	}
	return fs.SkipDir
}
