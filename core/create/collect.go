package create

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// item is something that goes into the archive.
type item struct {
	path   string      // on disk; empty: the item is no file
	via    string      // the link in the sources that led to the item; empty: the item lies there itself
	info   fs.FileInfo // of a file on disk
	text   []byte      // its data, where that is given
	stream io.Reader   // where the data comes from, if that is no file
	entry  archive.Entry
	sum    uint32 // CRC-32 of what was read
	sha256 []byte // where somebody asks
}

// from is where an item comes from, for people.
func (it *item) from() string {
	if it.path != "" {
		return it.path
	}
	return it.entry.Path
}

// collector finds what goes into an archive, and where.
type collector struct {
	Options
	ctx     context.Context
	base    string // absolute, of RelativeTo
	found   []item
	byPath  map[string]string    // path in the archive → where it comes from
	names   map[folder.ID]string // of files with several names → the path of the first
	sums    map[string][]byte    // SHA-256 of files that were packed, by their paths in the archive
	leftOut choose.Tally
	itsOwn  map[string]bool // place.Key of absolute paths of the archive, or its parts
	itself  bool
	spelt   int           // paths that were changed
	above   []fs.FileInfo // folders that links were followed into
	via     string        // the first of these links
	tops    []string      // folders that were walked, and those of links and single files
}

func newCollector(ctx context.Context, o Options) *collector {
	o.Complete()
	return &collector{Options: o, ctx: ctx, byPath: map[string]string{}, names: map[folder.ID]string{}, itsOwn: map[string]bool{}}
}

// leaveOut notes the paths that the archive itself takes, now or from an earlier
// run: they are not packed.
func (c *collector) leaveOut(target string) error {
	if c.Output != nil {
		return nil
	}
	names, err := c.Takes(target)
	for _, name := range append(names, target) {
		c.itsOwn[place.Key(name)] = true
	}
	return err
}

func (c *collector) collect() error {
	if err := c.allThere(); err != nil {
		return err
	}
	if c.RelativeTo != "" {
		base, err := resolved(c.RelativeTo)
		if err != nil {
			return fault.Reading(c.RelativeTo, err)
		}
		c.base = base
	}
	if c.Under != "" {
		under, err := given(c.Under)
		if err != nil {
			return err
		}
		c.Under = under
	}
	for _, source := range c.Sources {
		if err := c.addSource(source); err != nil {
			return err
		}
	}
	c.Under = "" // what is given a path has that
	if err := c.addGiven(); err != nil {
		return err
	}
	if c.Epoch != nil {
		c.reproducible()
	}
	if c.Found != nil {
		c.Found.Add(c.toRead())
	}
	if len(c.found) > 0 {
		c.spelt = c.spell()
		entries := make([]archive.Entry, len(c.found))
		for i := range c.found {
			entries[i] = c.found[i].entry
		}
		return unpackable(c.Format, entries)
	}
	if c.leftOut.LeftOut() > 0 {
		return fault.New(fault.NoMatch, "none of %d files matches the selection", c.leftOut.LeftOut())
	}
	return fault.New(fault.NoMatch, "there is nothing to pack in %s", strings.Join(c.Sources, ", "))
}

// allThere looks for every source before anything is written.
func (c *collector) allThere() error {
	var missing []error
	look := func(path string) {
		_, err := os.Stat(path)
		if err == nil && folder.IsAhead(path) {
			err = fs.ErrNotExist
		}
		if err != nil {
			missing = append(missing, fault.Reading(path, err))
		}
	}
	for _, source := range c.Sources {
		look(source)
	}
	for _, put := range c.Puts {
		look(put.File)
	}
	if len(missing) < 2 {
		return errors.Join(missing...)
	}
	texts := make([]string, len(missing))
	for i, err := range missing {
		texts[i] = err.Error()
	}
	return fault.New(fault.Unreadable, "%s", strings.Join(texts, "; ")).
		Advise("nothing was written; names are taken exactly as written: check the names and the current folder")
}

func resolved(path string) (string, error) {
	absolute, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(absolute)
}

// addSource adds a file, or a folder with all below it.
func (c *collector) addSource(source string) error {
	absolute, err := resolved(source)
	if err != nil {
		return fault.Reading(source, err)
	}
	top := filepath.Base(filepath.Clean(source))
	if top == "." || top == ".." {
		top = filepath.Base(absolute)
	}
	if top == string(filepath.Separator) {
		top = ""
	}
	info, err := os.Stat(absolute)
	if err != nil {
		return fault.Reading(source, err)
	}
	if c.DropTop && info.IsDir() {
		top = ""
	}
	if err := c.through(source); err != nil {
		return err
	}
	defer func() { c.via = "" }()
	if c.base != "" {
		rel, err := filepath.Rel(c.base, absolute)
		if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			return fault.At(source, fault.New(fault.Usage, "it does not lie below %s", c.RelativeTo).Suggest(fault.RelativeTo))
		}
		if top = filepath.ToSlash(rel); top == "." {
			top = ""
		}
	}
	return c.walk(absolute, top)
}

// through notes that what follows is reached through a path, if that is a link.
func (c *collector) through(link string) error {
	info, err := os.Lstat(link)
	if err != nil || c.via != "" || info.Mode()&fs.ModeSymlink == 0 {
		return fault.Reading(link, err)
	}
	c.via, err = filepath.Abs(link)
	c.tops = append(c.tops, filepath.Dir(c.via))
	return fault.Reading(link, err)
}

// walk adds what is at a path on disk, and all below it, but for what lies behind a folder that becomes a
// link meanwhile.
func (c *collector) walk(absolute, top string) error {
	c.tops = append(c.tops, absolute, filepath.Dir(absolute))
	return folder.Walk(absolute, func(at *folder.Step) error {
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		full := filepath.Join(absolute, at.Rel)
		inside := path.Join(c.Under, top, filepath.ToSlash(at.Rel))
		if inside == "." || at.Rel == "." && at.IsDir() && (top == "" || inside == path.Clean(c.Under)) {
			return nil
		}
		if at.Rel != "." && place.IsStaging(at.Name()) {
			c.leftOut[choose.Unfinished]++
			if at.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		link := ""
		if at.Mode()&fs.ModeSymlink != 0 {
			var err error
			if link, err = at.Link(); err != nil {
				return fault.Reading(full, err)
			}
		}
		return c.add(full, inside, at.FileInfo, link)
	})
}

// add adds what was found at a path; link is where it leads, if it is a link.
func (c *collector) add(at, inside string, info fs.FileInfo, link string) error {
	if c.itsOwn[place.Key(at)] {
		c.itself = true
		return nil
	}
	if info.Mode()&fs.ModeSymlink != 0 && c.Links == FollowLinks {
		return c.follow(at, inside)
	}
	it := item{path: at, via: c.via, info: info, entry: archive.Entry{Path: inside, Modified: info.ModTime(), Mode: info.Mode().Perm(), HasMode: true, Size: info.Size()}}
	verdict := choose.Kept
	switch mode := info.Mode(); {
	case mode.IsDir():
		it.entry.Kind, it.entry.Size = archive.Folder, 0
	case mode&fs.ModeSymlink != 0:
		it.entry.Kind, it.entry.Link = archive.Symlink, filepath.ToSlash(link)
		it.entry.Size = int64(len(it.entry.Link))
		if c.Links == SkipLinks {
			verdict = choose.Link
		}
	case !mode.IsRegular():
		verdict = choose.Special
	}
	if verdict == choose.Kept {
		verdict = c.Selection.Judge(&it.entry)
	}
	switch {
	case verdict == choose.Dropped && it.entry.Kind == archive.Folder:
		return c.countDropped(at)
	case it.entry.Kind != archive.Folder:
		c.leftOut[verdict]++
	}
	if verdict != choose.Kept {
		return nil
	}
	return c.take(it)
}

// follow adds what a link points at in its place.
func (c *collector) follow(at, inside string) error {
	target, err := filepath.EvalSymlinks(at)
	if err != nil {
		return fault.Reading(at, err)
	}
	info, err := os.Stat(target)
	if err != nil {
		return fault.Reading(at, err)
	}
	via := c.via
	defer func() { c.via = via }()
	if err := c.through(at); err != nil {
		return err
	}
	if !info.IsDir() {
		return c.add(target, inside, info, "")
	}
	for dir := at; ; dir = filepath.Dir(dir) {
		above, err := os.Stat(filepath.Dir(dir))
		if err != nil {
			return fault.Reading(at, err)
		}
		if os.SameFile(above, info) {
			return c.loop(at)
		}
		if dir == filepath.Dir(dir) {
			break
		}
	}
	if slices.ContainsFunc(c.above, func(above fs.FileInfo) bool { return os.SameFile(above, info) }) {
		return c.loop(at)
	}
	c.above = append(c.above, info)
	defer func() { c.above = c.above[:len(c.above)-1] }()
	under := c.Under
	c.Under = ""
	defer func() { c.Under = under }()
	return c.walk(target, inside)
}

func (c *collector) loop(at string) error {
	return fault.At(at, fault.New(fault.Unreadable, "this link leads back to a folder that it is in").
		Suggest(fault.DropOrKeepLink))
}

// take adds an item, unless its path is taken.
func (c *collector) take(it item) error {
	inside := it.entry.Path
	if other, taken := c.byPath[inside]; taken {
		if it.entry.Kind == archive.Folder || other == it.path && it.path != "" {
			return nil // the same once more
		}
		return fault.New(fault.Usage, "%s and %s would both be %s in the archive", other, it.from(), inside).
			Suggest(fault.KeepApart)
	}
	c.byPath[inside] = it.from()
	if c.Format.Hardlinks && it.entry.Kind == archive.File && it.info != nil {
		if id, several, known := folder.IDOf(it.path, it.info); several && known {
			if first, there := c.names[id]; there {
				it.entry.Kind, it.entry.Link = archive.Hardlink, first
			} else {
				c.names[id] = inside
			}
		}
	}
	c.found = append(c.found, it)
	return nil
}

// addGiven adds the entries that are named one by one.
func (c *collector) addGiven() error {
	now := time.Now()
	for _, put := range c.Puts {
		inside, err := given(put.Path)
		if err != nil {
			return err
		}
		absolute, err := resolved(put.File)
		if err != nil {
			return fault.Reading(put.File, err)
		}
		info, err := os.Stat(absolute)
		if err == nil {
			err = c.through(put.File)
		}
		if err == nil && info.IsDir() {
			err = c.walk(absolute, inside)
		} else if err == nil && c.itsOwn[place.Key(absolute)] {
			err = fault.At(put.File, fault.New(fault.Usage, "it is the archive itself"))
		} else if err == nil && !info.Mode().IsRegular() {
			err = fault.At(put.File, fault.New(fault.Unreadable, "it is neither a file nor a folder"))
		} else if err == nil {
			c.tops = append(c.tops, filepath.Dir(absolute))
			err = c.take(item{path: absolute, via: c.via, info: info, entry: archive.Entry{Path: inside, Modified: info.ModTime(),
				Mode: info.Mode().Perm(), HasMode: true, Size: info.Size()}})
			c.leftOut[choose.Kept]++
		}
		c.via = ""
		if err != nil {
			return fault.Reading(put.File, err)
		}
	}
	for _, text := range c.Texts {
		inside, err := given(text.Path)
		if err == nil {
			err = c.take(item{text: []byte(text.Text), entry: archive.Entry{Path: inside, Modified: now, Mode: 0o644, HasMode: true, Size: int64(len(text.Text))}})
		}
		if err != nil {
			return err
		}
	}
	for _, s := range c.Streams {
		inside, err := given(s.Path)
		if err == nil {
			err = c.take(item{stream: s.Data, entry: archive.Entry{Path: inside, Modified: now, Mode: 0o644, HasMode: true, Size: archive.Unknown}})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// given makes sure that a path in the archive is one.
func given(inside string) (string, error) {
	cleaned, err := place.Clean(inside)
	if err == nil && cleaned == "." {
		err = errors.New("it is no path")
	}
	if err != nil {
		return "", fault.New(fault.Usage, "%q cannot be a path in an archive: %w", inside, err)
	}
	return cleaned, nil
}

// reproducible takes out what depends on when and where the archive is made.
func (c *collector) reproducible() {
	slices.SortStableFunc(c.found, func(a, b item) int { return cmp.Compare(a.entry.Path, b.entry.Path) })
	first := map[folder.ID]string{}
	for i := range c.found {
		e := &c.found[i].entry
		e.Modified = *c.Epoch
		executable := e.Mode&0o111 != 0
		e.Mode = 0o644
		if executable || e.Kind == archive.Folder {
			e.Mode = 0o755
		}
		if e.Kind == archive.Symlink {
			e.Mode = 0o777
		}
		// Which of several names of a file comes first has changed.
		if id, several, known := folder.IDOf(c.found[i].path, c.found[i].info); several && known && c.Format.Hardlinks && (e.Kind == archive.File || e.Kind == archive.Hardlink) {
			if to, there := first[id]; there {
				e.Kind, e.Link = archive.Hardlink, to
			} else {
				first[id] = e.Path
				e.Kind, e.Link = archive.File, ""
			}
		}
	}
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
