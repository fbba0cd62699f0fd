package create

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// An Output is what an archive is written to: a file, a set of parts, or a stream.
// The first two appear when they are committed.
type Output interface {
	// Start starts the archive in it.
	Start(f archive.Format, o archive.WriteOptions) (archive.Writer, error)

	// Finish is called when all is written; it fills in sizes.
	Finish(r *report.Made) error

	// Open reads what was finished.
	Open() (blob.Blob, archive.Parts, error)

	Commit() error
	Discard() error
}

// NewOutput makes the output that options ask for, at an absolute path.
func NewOutput(target string, o Options) (Output, error) {
	switch {
	case o.Output != nil:
		return &stream{w: o.Output}, nil
	case o.Cut == nil:
		out, err := o.Sites.Create(target, o.Existing == Replace)
		return &oneFile{path: target, file: out}, err
	case o.Cut.Style == cut.ZIP && o.Format.Name != zip.Format.Name:
		return nil, fault.At(o.Archive, fault.New(fault.Usage, "only ZIP archives can be split ZIP archives").Suggest(fault.NumberedParts))
	}
	how := *o.Cut
	how.Sites = o.Sites
	how.Replace = o.Existing == Replace
	w, err := cut.Create(target, how)
	return &inParts{w}, err
}

// Commit lets an output appear. What it replaces is kept before, where that is asked for.
func (o *Options) Commit(out Output, target string, r *report.Made) error {
	keeper := disposal.Keeper{Folder: o.Keep}
	if err := o.keep(&keeper, target, r); err != nil {
		keeper.Back()
		return errors.Join(err, out.Discard())
	}
	err := out.Commit()
	if err != nil {
		keeper.Back()
	}
	keeper.Settled()
	return err
}

// WorthIt refuses to replace something by an archive without a file: kind fault.NoMatch.
func (o *Options) WorthIt(target string, r *report.Made) error {
	if o.Output != nil || o.Existing != Replace || r.Files > 0 {
		return nil
	}
	paths, err := o.Takes(target)
	for _, path := range paths {
		if there, missing := o.Sites.Stat(path); err == nil && missing == nil && there.Size() > 0 && !o.isEmpty(path) {
			err = fault.At(path, fault.New(fault.NoMatch, "there is no file to pack, and what is there would be replaced by nothing").Advise("look at the sources; if that is right, remove it yourself"))
		}
	}
	return err
}

// keep keeps what is about to be replaced, where that is asked for, and takes note of it.
func (o *Options) keep(keeper *disposal.Keeper, target string, r *report.Made) error {
	if o.Output != nil || o.Keep == "" && o.Existing != Replace {
		return nil
	}
	paths, err := o.Takes(target)
	if err != nil {
		return err
	}
	r.Kept = map[string]string{}
	for _, path := range paths {
		if _, err := os.Lstat(path); err != nil || r.Kept[path] != "" {
			continue // nothing is there, or it is at an address
		}
		if r.Replaced = append(r.Replaced, path); o.Keep == "" {
			continue
		}
		if r.Kept[path], err = keeper.Keep(path, filepath.Base(path)); err != nil {
			return err
		}
	}
	return nil
}

// Free says whether an archive that is there already would keep an output from being made.
func (o *Options) Free(target string) error {
	taken, err := o.Takes(target)
	if err != nil || o.Existing == Replace {
		return err
	}
	for _, path := range taken {
		there, err := o.Sites.Find(path)
		if err != nil {
			return err
		}
		if there.Info != nil {
			return newfile.Existing(path)
		}
	}
	return nil
}

type oneFile struct {
	path string
	file *newfile.NewFile
}

func (o *oneFile) Start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	return f.NewWriter(o.file.Writer(), w)
}

func (o *oneFile) Finish(r *report.Made) error {
	size, err := o.file.Size()
	r.Packed = size
	if sum := o.file.Sum(); sum != nil {
		r.SHA256 = map[string][]byte{o.path: sum}
	}
	return fault.Writing(o.path, err)
}

func (o *oneFile) Open() (blob.Blob, archive.Parts, error) {
	data, err := o.file.Open()
	return data, nil, err
}

func (o *oneFile) Commit() error  { return o.file.Commit() }
func (o *oneFile) Discard() error { return o.file.Discard() }

type inParts struct{ set *cut.Writer }

func (o *inParts) Start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	if o.set.Style == cut.ZIP {
		return zip.NewSplitWriter(o.set, w)
	}
	return f.NewWriter(struct{ io.Writer }{o.set}, w)
}

func (o *inParts) Finish(r *report.Made) error {
	written, err := o.set.Finish()
	r.Parts, r.Sums, r.Packed, r.SHA256 = written.Parts, written.List, written.Size, written.SHA256
	return err
}

func (o *inParts) Open() (blob.Blob, archive.Parts, error) { return o.set.Open() }
func (o *inParts) Commit() error                           { return o.set.Commit() }
func (o *inParts) Discard() error                          { return o.set.Discard() }

// stream takes an archive as it is made; what was written stays written.
type stream struct {
	w    io.Writer
	size int64
}

func (o *stream) Start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	return f.NewWriter(o, w)
}

func (o *stream) Write(p []byte) (int, error) {
	n, err := o.w.Write(p)
	o.size += int64(n)
	return n, fault.Writing("standard output", err)
}

func (o *stream) Finish(r *report.Made) error {
	r.Packed = o.size
	return nil
}

func (o *stream) Open() (blob.Blob, archive.Parts, error) {
	return nil, nil, errors.New("a stream cannot be read again")
}

func (o *stream) Commit() error  { return nil }
func (o *stream) Discard() error { return nil }

// Takes are the paths that an archive takes, or that go when it is replaced: its own, or
// those of a set, with the parts that are there already.
func (o *Options) Takes(target string) ([]string, error) {
	if o.Cut == nil {
		return []string{target}, nil
	}
	var paths []string
	for _, name := range o.Cut.Names(target) {
		paths = append(paths, name)
		set, err := parts.At(o.Sites.Sites, name, nil)
		if err != nil && fault.Of(err) != fault.Unreadable { // a missing folder is reported when it is written to
			return nil, err
		}
		if set != nil {
			paths = append(paths, set.Present()...)
		}
	}
	return paths, nil
}

// numbered finds a name that is free, on the disk and among the paths that are
// taken: name-2.ext, name-3.ext …
func (o *Options) numbered(target string, also map[string]string) (string, error) {
	folder, name := storage.Dir(target), storage.Base(target)
	for n := 1; ; n++ {
		path := target
		if n > 1 {
			path = storage.Join(folder, place.Numbered(name, n))
		}
		taken := []string{path}
		if o.Cut != nil {
			taken = o.Cut.Names(path)
		}
		_, planned := also[path]
		free := !planned
		for _, name := range taken {
			there, err := o.Sites.Find(name)
			if err != nil {
				return "", err
			}
			free = free && there.Info == nil
		}
		if free {
			return path, nil
		}
	}
}

// known says which formats there are.
func known() string { return "widecrate writes: " + strings.Join(format.Writable(), ", ") }
