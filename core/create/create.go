// Package create makes archives from files on disk, and from texts and streams
// that it is given: it collects what goes in, checks that all of it is there,
// packs it on several workers, reads it back if asked to, and lets the archive
// appear when it is complete.
package create

import (
	"cmp"
	"context"
	"errors"
	"io"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/newfile"
	"widecrate/core/parts/cut"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// Links says what is stored of symbolic links below the sources. A source that
// is a link itself stands for what it points at.
type Links uint8

// The rules for links.
const (
	KeepLinks   Links = iota // the link
	FollowLinks              // what it points at
	SkipLinks                // nothing; they are counted
)

// Existing says what happens when the archive exists already.
type Existing uint8

// The clash rules.
const (
	Refuse Existing = iota
	Replace
	Number // name-2.ext
)

// Put is a file that gets a path of its own.
type Put struct{ File, Path string }

// Text is an entry whose data is given.
type Text struct{ Path, Text string }

// Stream is an entry whose data is read from something that is no file.
type Stream struct {
	Path string
	Data io.Reader
}

// Options is a request to make one archive.
type Options struct {
	Archive  string         // path of the archive
	Output   io.Writer      // takes the archive instead of a file at that path; nil: it goes there
	Format   archive.Format // zero: that of the archive's extension
	Writing  archive.WriteOptions
	Cut      *cut.Options // into parts; nil: it is one file
	Existing Existing
	Sites    newfile.Sites // where archives can go
	Keep     string        // the folder in which what is replaced is kept; empty: it goes

	Sources    []string // files and folders
	DropTop    bool     // leave the name of a source folder out of the paths
	Under      string   // a folder in front of all paths
	RelativeTo string   // paths are those below this folder; empty: below the sources
	Puts       []Put
	Texts      []Text
	Streams    []Stream
	Selection  *choose.Selection
	Links      Links
	Names      place.Names // of what is packed

	// Epoch makes the archive depend on names and contents alone: entries are
	// sorted, have this time, and of their permissions only whether they can be
	// executed. nil: they are as on disk.
	Epoch *time.Time

	Done     func(id string) *report.Earlier // the archive of all that is in report.Created.ID that was made before, and is still there; nil, or of that: there is none
	Hash     bool                            // find the SHA-256 of what is packed; see report.Created
	Made     func(*report.Created) error     // called when the archive is there, also if it was before, and before sources are removed: with an error they stay; nil: nobody asks
	ReadBack bool                            // read the archive again, and compare it with what was read from the sources
	Remove   bool                            // the sources, after it was read back
	Halt     bool                            // of RunEach: start no further archive after one has failed
	DryRun   bool                            // find out what would go in, and write nothing
	Workers  int                             // 0: one for each processor
	Read     *atomic.Int64                   // counts the bytes of the sources that were read so far; nil: nobody asks
	Found    *atomic.Int64                   // gets the bytes that there are to read, once they are found and if they are known; nil: nobody asks

	asked string // the path of the archive before it got a number; empty: there is none
}

// Complete puts what zero values stand for in their place, the format aside; what is removed is
// read back first.
func (o *Options) Complete() {
	if o.Read == nil {
		o.Read = new(atomic.Int64)
	}
	if o.Workers < 1 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	o.ReadBack = o.ReadBack || o.Remove
}

// FormatOf finds the format of a new archive by its name; empty: by the extension
// of path. One that is not known, or only read, is of kind fault.Usage.
func FormatOf(path, name string) (archive.Format, error) {
	f, ok := archive.Format{}, false
	for _, known := range format.All {
		if name != "" && name == known.Name {
			f, ok = known, true
		}
	}
	if name != "" { // an extension, with or without its dot, does as well
		path = "x." + name
	}
	if !ok {
		f, ok = format.ByName(filepath.Base(path))
	}
	switch {
	case ok && f.NewWriter == nil:
		return f, fault.New(fault.Usage, "%s is read, and not written", f.Name).Advise(known())
	case ok:
		return f, nil
	case name != "":
		return f, fault.New(fault.Usage, "there is no format %q", name).Advise(known())
	}
	return f, fault.At(path, fault.New(fault.Usage, "its extension is not one of a format that widecrate writes").Advise(known()))
}

// Run makes the archive. Nothing is written before all sources were found.
// Errors are of kind fault.Usage (equal paths, a method that the format has
// not), fault.Unreadable (a source), fault.NoMatch (nothing to pack),
// fault.Refused (the archive exists) or fault.Unwritable; with any of them there
// is no archive.
func Run(ctx context.Context, o Options) (*report.Created, error) {
	started := time.Now()
	o.Complete()
	if o.Format.NewWriter == nil {
		var err error
		if o.Format, err = FormatOf(o.Archive, o.Format.Name); err != nil {
			return nil, err
		}
	}
	if err := o.Check(); err != nil {
		return nil, err
	}
	target, err := o.Target(nil)
	if err != nil {
		return nil, err
	}
	c := newCollector(ctx, o)
	if err := c.leaveOut(target); err != nil {
		return nil, err
	}
	if err := c.collect(); err != nil {
		return nil, err
	}
	r := &report.Created{Archive: target, Made: report.Made{Format: o.Format.Name, LeftOut: c.leftOut}, Itself: c.itself, Spelt: c.spelt, DryRun: o.DryRun}
	if err := c.findEarlier(r); err != nil {
		return nil, err
	}
	switch {
	case r.Done:
		return r, c.done(r)
	case o.DryRun:
		for i := range c.found {
			r.Add(c.found[i].entry)
			if o.Hash {
				r.From = append(r.From, c.origin(&c.found[i]))
			}
		}
		if err := cmp.Or(o.Free(target), o.WorthIt(target, &r.Made)); err != nil {
			return nil, err
		}
		return r, nil
	}
	if err := c.write(target, r); err != nil {
		return nil, err
	}
	r.Took = report.Since(started)
	var made []disposal.Record
	if o.Remove {
		if made, err = o.Recorded(r.Archive, &r.Made); err != nil {
			return nil, err
		}
	}
	if o.Made != nil {
		if err := o.Made(r); err != nil {
			return nil, err
		}
	}
	if o.Remove {
		return r, c.remove(r, made)
	}
	return r, nil
}

// findEarlier finds out whether the archive was made before of the same.
func (c *collector) findEarlier(r *report.Created) (err error) {
	if !c.Hash && c.Done == nil {
		return nil
	}
	if r.ID, err = c.identity(); err != nil || r.ID == "" || c.Done == nil {
		return err
	}
	earlier := c.Done(r.ID)
	if r.Done = earlier != nil && c.Opens(c.ctx, earlier); !r.Done {
		return nil
	}
	r.Archive, r.Packed = c.Earlier(&r.Made, earlier)
	c.sums = map[string][]byte{}
	for _, f := range earlier.Files {
		c.sums[f.Path] = f.SHA256
	}
	return nil
}

// Earlier takes over what an earlier run made: its path, or that of its first part, and the size
// that it has now.
func (o *Options) Earlier(m *report.Made, e *report.Earlier) (path string, size int64) {
	for _, path := range e.Paths {
		if there, err := o.Sites.Find(path); err == nil && there.Info != nil {
			size += there.Size()
		}
	}
	if len(e.Paths) > 1 {
		m.Parts = e.Paths
	}
	return e.Paths[0], size
}

// done completes what is said of an archive that was made before.
func (c *collector) done(r *report.Created) error {
	for i := range c.found {
		it := &c.found[i]
		r.Add(it.entry)
		if c.Hash {
			it.sha256 = c.sums[it.entry.Path]
			r.From = append(r.From, c.origin(it))
		}
	}
	if c.Remove {
		r.Kept = "an earlier run made the archive, and they were not compared with it"
	}
	if c.DryRun || c.Made == nil {
		return nil
	}
	return c.Made(r)
}

// Recorded is what is there of a new archive.
func (o *Options) Recorded(path string, m *report.Made) (made []disposal.Record, err error) {
	paths := []string{path}
	if m.Parts != nil {
		paths = m.Parts
	}
	for _, path := range paths {
		record, err := disposal.Note(o.Sites.Sites, path)
		if err != nil {
			return nil, err
		}
		made = append(made, record)
	}
	return made, nil
}

// Check finds what the format cannot do: kind fault.Usage.
func (o *Options) Check() error {
	if o.Format.NewWriter == nil {
		return fault.New(fault.Usage, "no format is named that is written").Advise(known())
	}
	methods := o.Format.Methods
	if o.Writing.Method != "" && !slices.Contains(methods, o.Writing.Method) {
		if methods == nil {
			return fault.New(fault.Usage, "in %s there is no method to choose", o.Format.Name).Advise("choose it with the format, such as tar.zst")
		}
		return fault.New(fault.Usage, "%s has no method %q", o.Format.Name, o.Writing.Method).Advise("choose one of " + strings.Join(methods, ", "))
	}
	switch {
	case o.Writing.Password != "" && !o.Format.Encrypts:
		return fault.New(fault.Usage, "only ZIP archives can be locked, and this is %s", o.Format.Name)
	case o.Writing.Password != "" && o.Epoch != nil:
		return fault.New(fault.Usage, "an archive that is locked has other bytes each time, and cannot be reproducible, too").Advise("leave out one of the two")
	case o.Output != nil && (o.Cut != nil || o.ReadBack):
		return fault.New(fault.Usage, "what goes to standard output can be neither cut nor read back")
	case o.Keep != "":
		return storage.CheckDisk(o.Archive, "what is replaced at an address cannot be kept in a folder on disk: number the new one instead")
	}
	return nil
}

// Target is where the archive is to be, with the number that it may need: also
// has paths that are taken already.
func (o *Options) Target(also map[string]string) (string, error) {
	if o.Output != nil {
		return o.Archive, nil
	}
	target, err := o.Sites.Written(o.Archive)
	if err != nil {
		return "", err
	}
	if folder, err := filepath.EvalSymlinks(storage.Dir(target)); err == nil {
		target = filepath.Join(folder, filepath.Base(target))
	}
	if o.Existing == Number {
		return o.numbered(target, also)
	}
	return target, nil
}

// Contents are things that were found to be packed.
type Contents struct{ c *collector }

// Gather finds what the sources of options are, for an archive that is there already.
// There may be nothing.
func Gather(ctx context.Context, o Options) (*Contents, error) {
	c := newCollector(ctx, o)
	target, err := o.Target(nil)
	if err == nil {
		err = c.leaveOut(target)
	}
	if err != nil {
		return nil, err
	}
	if err := c.collect(); err != nil && fault.Of(err) != fault.NoMatch {
		return nil, err
	}
	return &Contents{c}, nil
}

// Paths are those that they get.
func (c *Contents) Paths() map[string]archive.Kind {
	paths := map[string]archive.Kind{}
	for i := range c.c.found {
		paths[c.c.found[i].entry.Path] = c.c.found[i].entry.Kind
	}
	return paths
}

// Files counts those that are no folders.
func (c *Contents) Files() (n int) {
	for i := range c.c.found {
		if c.c.found[i].entry.Kind != archive.Folder {
			n++
		}
	}
	return n
}

// Expected are the entries that Pack has added.
func (c *Contents) Expected() (all []Expected) {
	for i := range c.c.found {
		all = append(all, c.c.found[i].expected())
	}
	return all
}

// Pack adds them to an archive, and notes them in r.
func (c *Contents) Pack(w archive.Writer, r *report.Created) error {
	r.LeftOut = c.c.leftOut
	return c.c.pack(w, r)
}

// write packs what was found.
func (c *collector) write(target string, r *report.Created) error {
	out, err := NewOutput(target, c.Options)
	if err != nil {
		return err
	}
	w, err := out.Start(c.Format, c.Writing)
	if err == nil {
		if err = c.pack(w, r); err != nil {
			w.Abort()
		} else {
			err = fault.Writing("", w.Close())
		}
	}
	if err == nil {
		err = out.Finish(&r.Made)
	}
	if err == nil && c.ReadBack {
		err = c.readBack(out, r)
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	if err := c.WorthIt(target, &r.Made); err != nil {
		return errors.Join(err, out.Discard())
	}
	return c.Commit(out, target, &r.Made)
}
