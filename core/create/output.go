package create

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/parts"
	"widecrate/core/stage"
)

// output is what an archive is written to: a file, a set of parts, or a stream.
// The first two appear when they are committed.
type output interface {
	start(f archive.Format, o archive.WriteOptions) (archive.Writer, error)
	finish(r *Result) error // all is written
	open() (io.ReaderAt, archive.Parts, error)
	commit() error
	discard() error
}

func newOutput(target string, o Options) (output, error) {
	switch {
	case o.Output != nil:
		return &stream{w: o.Output}, nil
	case o.Cut == nil:
		out, err := stage.Create(target, o.Clash == Replace)
		return &oneFile{NewFile: out, replace: o.Clash == Replace}, err
	case o.Cut.Style == parts.ZIPStyle && o.Format.Name != zip.Format.Name:
		return nil, fault.At(o.Archive, fault.New(fault.Usage, "--part-style zip splits ZIP archives only").Advise("--part-style numbered cuts any"))
	}
	cut := *o.Cut
	cut.Replace = o.Clash == Replace
	w, err := parts.Create(target, cut)
	return &inParts{w}, err
}

type oneFile struct {
	*stage.NewFile
	replace bool
}

func (o *oneFile) start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	return f.NewWriter(o.NewFile, w)
}

func (o *oneFile) finish(r *Result) error {
	info, err := o.Stat()
	if err == nil {
		r.Packed = info.Size()
	}
	return fault.Writing(r.Archive, err)
}

func (o *oneFile) open() (io.ReaderAt, archive.Parts, error) { return o.File, nil, nil }
func (o *oneFile) commit() error                             { return o.Commit(o.replace) }
func (o *oneFile) discard() error                            { return o.Discard() }

type inParts struct{ *parts.Writer }

func (o *inParts) start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	if o.Style == parts.ZIPStyle {
		return zip.NewSplitWriter(o.Writer, w)
	}
	return f.NewWriter(struct{ io.Writer }{o.Writer}, w)
}

func (o *inParts) finish(r *Result) error {
	written, err := o.Finish()
	r.Parts, r.Packed = &written, written.Size
	return err
}

func (o *inParts) open() (io.ReaderAt, archive.Parts, error) { return o.Open() }
func (o *inParts) commit() error                             { return o.Commit() }
func (o *inParts) discard() error                            { return o.Discard() }

// stream takes an archive as it is made; what was written stays written.
type stream struct {
	w    io.Writer
	size int64
}

func (o *stream) start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	return f.NewWriter(o, w)
}

func (o *stream) Write(p []byte) (int, error) {
	n, err := o.w.Write(p)
	o.size += int64(n)
	return n, fault.Writing("standard output", err)
}

func (o *stream) finish(r *Result) error {
	r.Packed = o.size
	return nil
}

func (o *stream) open() (io.ReaderAt, archive.Parts, error) {
	return nil, nil, errors.New("a stream cannot be read again")
}

func (o *stream) commit() error  { return nil }
func (o *stream) discard() error { return nil }

// numbered finds a name that is free, on the disk and among the paths that are
// taken: name-2.ext, name-3.ext …
func (o *Options) numbered(target string, also map[string]string) (string, error) {
	folder, name := filepath.Split(target)
	stem := format.Stem(name)
	ext := strings.TrimPrefix(name, stem)
	for n := 1; ; n++ {
		path := target
		if n > 1 {
			path = filepath.Join(folder, fmt.Sprintf("%s-%d%s", stem, n, ext))
		}
		taken := []string{path}
		if o.Cut != nil {
			taken = o.Cut.Names(path)
		}
		_, planned := also[path]
		free := !planned
		for _, name := range taken {
			if _, err := os.Lstat(name); !errors.Is(err, fs.ErrNotExist) {
				free = false
				if err != nil {
					return "", fault.Writing(name, err)
				}
			}
		}
		if free {
			return path, nil
		}
	}
}

// known says which formats there are.
func known() string { return "widecrate writes: " + strings.Join(format.Names(), ", ") }
