package create

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"math"
	"os"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/storage"
	"widecrate/core/walk"
)

// Expected is an entry as it was packed.
type Expected struct {
	Path string
	Kind archive.Kind
	Link string
	Sum  uint32 // CRC-32 of the data of a file

	Locked bool // its data was copied locked, and is not compared
}

// ReadBack reads a finished archive of options again, which open opens before it appears, and
// compares every entry with what was packed. hashed gets the SHA-256 of each file; nil: nobody asks. What is
// not the same is of kind fault.Damaged.
func ReadBack(ctx context.Context, open func() (blob.Blob, archive.Parts, error), o *Options, count int, want func(i int) Expected, hashed func(i int, sum []byte)) ([]archive.Entry, error) {
	data, layout, err := open()
	if err != nil {
		return nil, err
	}
	opening := walk.Opening{Options: archive.Options{Name: storage.Base(o.Archive), Parts: layout}, Limits: bound.Limits{Entries: math.MaxInt64}}
	if o.Writing.Password != "" {
		opening.Passwords = []string{o.Writing.Password}
	}
	a, err := walk.OpenAs(o.Format, data, opening)
	if err != nil {
		return nil, mismatch(err)
	}
	defer a.Close()
	entries := make([]archive.Entry, 0, count)
	for entry, err := range a.Walk(ctx) {
		if err == nil && entry.Index == count {
			err = errors.New("it does not end where it should")
		}
		if err == nil && entry.Kind == archive.Symlink {
			entry.Link, err = entry.Target()
		}
		if err == nil {
			entries = append(entries, *entry.Entry)
			err = want(entry.Index).compare(ctx, o.Format, entry, hashed)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			return nil, mismatch(err)
		}
	}
	if len(entries) < count {
		return nil, mismatch(fmt.Errorf("it has %d entries instead of %d", len(entries), count))
	}
	return entries, nil
}

func (it *item) expected() Expected {
	return Expected{Path: it.entry.Path, Kind: it.entry.Kind, Link: it.entry.Link, Sum: it.sum}
}

// readBack reads the finished archive again.
func (c *collector) readBack(out Output, r *report.Created) error {
	entries, err := ReadBack(c.ctx, out.Open, &c.Options, len(c.found), func(i int) Expected { return c.found[i].expected() }, nil)
	if err != nil {
		return err
	}
	r.ReadBack = len(c.found)
	return unpackable(c.Format, entries)
}

// Opens reports whether the password opens an archive that was made before: that is in no
// receipt.
func (o *Options) Opens(ctx context.Context, earlier *report.Earlier) bool {
	if o.Writing.Password == "" {
		return true
	}
	opens := true // if nothing in it is locked
	err := o.look(ctx, earlier.Paths[0], func(e *walk.Entry) bool {
		if e.Kind == archive.Folder {
			return true
		}
		_, err := io.CopyN(io.Discard, e, 1)
		opens = err == nil || err == io.EOF
		return false
	})
	return err == nil && opens
}

// isEmpty reports whether there is an archive at a path in which there are no files.
func (o *Options) isEmpty(path string) bool {
	empty := true
	err := o.look(context.Background(), path, func(e *walk.Entry) bool {
		empty = e.Kind == archive.Folder
		return empty
	})
	return err == nil && empty
}

// look goes through the entries of an archive until do has seen enough.
func (o *Options) look(ctx context.Context, path string, do func(*walk.Entry) bool) error {
	sources, err := source.Find(ctx, source.Request{Names: []string{path}, Remote: o.Sites.Client})
	if err != nil || len(sources) != 1 {
		return cmp.Or(err, errors.ErrUnsupported)
	}
	opening := walk.Opening{}
	if o.Writing.Password != "" {
		opening.Passwords = []string{o.Writing.Password}
	}
	a, err := walk.Open(ctx, sources[0], opening)
	if err != nil {
		return err
	}
	defer a.Close()
	for e, err := range a.Walk(ctx) {
		if err != nil {
			return err
		}
		if !do(e) {
			return nil
		}
	}
	return nil
}

func mismatch(err error) error {
	return fault.New(fault.Damaged, "what was written is not what was packed: %w", err).
		Advise("nothing was removed, and the archive was discarded; check the disk")
}

// compare checks an entry of an archive against what was packed.
func (x Expected) compare(ctx context.Context, f archive.Format, e *walk.Entry, hashed func(i int, sum []byte)) error {
	named := f.Extensions != nil && f.HoldsOne || e.Path == x.Path && e.Kind == x.Kind
	if !named {
		return fmt.Errorf("%s is there as %s", x.Path, e.Path)
	}
	if x.Kind != archive.File {
		if e.Link != x.Link {
			return fmt.Errorf("%s is a link to %q instead of %q", e.Path, e.Link, x.Link)
		}
		return nil
	}
	if x.Locked {
		return nil
	}
	meter, sum := bound.Meter{Context: ctx}, crc32.NewIEEE()
	if hashed != nil {
		meter.Sums = []hash.Hash{sha256.New()}
	}
	if _, err := io.Copy(meter.Writer(sum), e); err != nil {
		return fmt.Errorf("%s: %w", x.Path, err)
	}
	if sum.Sum32() != x.Sum {
		return fmt.Errorf("%s has the checksum %08x instead of %08x", x.Path, sum.Sum32(), x.Sum)
	}
	if hashed != nil {
		hashed(e.Index, meter.Sums[0].Sum(nil))
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
	case c.Selection.Nowhere() != "":
		r.Kept = c.Selection.Nowhere() + " was asked for, and is nowhere"
		return nil
	case c.itself:
		r.Kept = "the archive lies among them"
		return nil
	}
	files, folders, err := c.packed()
	if err == nil {
		r.Removed, err = disposal.Packed(c.tops, files, folders, made)
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
				err = disposal.Unchanged(c.ctx, []blob.File{{Path: it.path, Info: it.info}})
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
