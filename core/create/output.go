package create

import (
	"errors"
	"io"
	"path/filepath"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/parts"
	"widecrate/core/stage"
)

// output is what an archive is written to: one file, or a set of parts. It
// appears when it is committed.
type output interface {
	start(f archive.Format, o archive.WriteOptions) (archive.Writer, error)
	commit(r *Result) error
	discard() error
}

func newOutput(target string, o Options, f archive.Format) (output, error) {
	if o.Cut == nil {
		out, err := stage.Create(target, o.Replace)
		return &oneFile{out, o.Replace}, err
	}
	if o.Cut.Style == parts.ZIPStyle && f.Name != zip.Format.Name {
		return nil, fault.At(o.Archive, fault.New(fault.Usage, "--part-style zip splits ZIP archives only").Advise("--part-style numbered cuts any"))
	}
	cut := *o.Cut
	cut.Replace = o.Replace
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

func (o *oneFile) discard() error { return o.Discard() }

func (o *oneFile) commit(r *Result) error {
	info, err := o.Stat()
	if err != nil {
		return errors.Join(fault.Writing(r.Archive, err), o.Discard())
	}
	r.Packed = info.Size()
	return o.Commit(o.replace)
}

type inParts struct{ *parts.Writer }

func (o *inParts) start(f archive.Format, w archive.WriteOptions) (archive.Writer, error) {
	if o.Style == parts.ZIPStyle {
		return zip.NewSplitWriter(o.Writer, w)
	}
	return f.NewWriter(struct{ io.Writer }{o.Writer}, w)
}

func (o *inParts) discard() error { return o.Discard() }

func (o *inParts) commit(r *Result) error {
	written, err := o.Commit()
	r.Parts, r.Packed = &written, written.Size
	return err
}

// formatOf tells the format of a new archive by its name.
func formatOf(path string) (archive.Format, error) {
	f, ok := format.ByName(filepath.Base(path))
	if !ok {
		return f, fault.At(path, fault.New(fault.Usage, "its extension tells no format that widecrate writes").
			Advise("widecrate writes: "+strings.Join(format.Names(), ", ")))
	}
	return f, nil
}
