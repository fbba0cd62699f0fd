// Package format is the list of the archive formats, and finds which one some
// content is in. A new format is one folder beside this file and one line in it.
package format

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/format/ar"
	"widecrate/core/format/cpio"
	"widecrate/core/format/deb"
	"widecrate/core/format/iso"
	"widecrate/core/format/lone"
	"widecrate/core/format/rpm"
	"widecrate/core/format/tar"
	"widecrate/core/format/udf"
	"widecrate/core/format/zip"
)

// All has every format, in the order in which content is tried.
var All = all()

func all() []archive.Format {
	formats := []archive.Format{zip.Format, tar.Format, cpio.Format, deb.Format, rpm.Format, ar.Format}
	for _, m := range codec.Streams() {
		formats = append(formats, lone.Formats(m)...)
	}
	return append(formats, udf.Format, iso.Format) // which say what they are only after 32 KiB
}

// Identify finds the format of some content by the content alone. Content of
// no known format is of kind fault.Damaged.
func Identify(r io.ReaderAt, size int64) (archive.Format, error) {
	if size == 0 {
		return archive.Format{}, fault.New(fault.Damaged, "it is empty").Advise("fetch it again: an archive has at least one record")
	}
	read := &failing{ReaderAt: r}
	if f, known := Start(read, size); known {
		return f, nil
	}
	if IsPage(read) {
		return archive.Format{}, ErrPage
	}
	for _, f := range All {
		if f.IdentifyBehind != nil && f.IdentifyBehind(read, size) {
			return f, nil
		}
	}
	switch {
	case errors.Is(read.err, context.Canceled):
		return archive.Format{}, read.err
	case read.err != nil:
		return archive.Format{}, fault.Reading("", read.err)
	}
	return archive.Format{}, fault.New(fault.Damaged, "it is not an archive that widecrate reads").
		Advise("widecrate reads: " + strings.Join(Names(), ", "))
}

// failing remembers why something could not be read: whoever looks for a format sees nothing then.
type failing struct {
	io.ReaderAt
	err error
}

func (f *failing) ReadAt(p []byte, at int64) (int, error) {
	n, err := f.ReaderAt.ReadAt(p, at)
	if err != nil && err != io.EOF && f.err == nil {
		f.err = err
	}
	return n, err
}

// Start finds the format of some content by what it starts with.
func Start(r io.ReaderAt, size int64) (archive.Format, bool) {
	for _, f := range All {
		if f.Identify(r, size) {
			return f, true
		}
	}
	return archive.Format{}, false
}

// ErrPage is the error of a web page instead of an archive.
var ErrPage = fault.New(fault.Damaged, "it is a web page and no archive").
	Advise("open its address in a browser: a login may be missing, or it leads to the archive")

// IsPage reports whether content starts like a web page.
func IsPage(r io.ReaderAt) bool {
	var start [512]byte
	n, err := r.ReadAt(start[:], 0)
	if err != nil && err != io.EOF {
		return false
	}
	text := strings.ToLower(strings.TrimLeft(strings.TrimPrefix(string(start[:n]), "\ufeff"), " \t\r\n"))
	return strings.HasPrefix(text, "<!doctype html") || strings.HasPrefix(text, "<html")
}

// byExtension finds a format by an extension as it is listed.
var byExtension = func() map[string]archive.Format {
	formats := map[string]archive.Format{}
	for _, f := range slices.Backward(All) { // the first of two that share an extension
		for _, ext := range f.Extensions {
			formats[ext] = f
		}
	}
	return formats
}()

// ByName returns the format of a file name by its extension.
func ByName(name string) (archive.Format, bool) {
	_, f, known := cutExtension(name)
	return f, known
}

// Misnamed reports whether a file's extension says another format than its
// content.
func Misnamed(name, content string) bool {
	f, known := ByName(name)
	return !known || f.Name != content
}

// CutExtension cuts the extension of an archive off a file name, both of a double one, and
// reports whether there was one.
func CutExtension(name string) (stem string, found bool) {
	stem, _, found = cutExtension(name)
	return stem, found
}

func cutExtension(name string) (stem string, f archive.Format, found bool) {
	stem = name
	for at, dots := len(name), 0; dots < 2; dots++ { // the longest extension: .tar.gz before .gz
		if at = strings.LastIndexByte(name[:at], '.'); at < 1 {
			break
		}
		if longer, known := ofExtension(name[at:]); known {
			stem, f, found = name[:at], longer, true
		}
	}
	return stem, f, found
}

// ofExtension finds a format whatever case the extension is in, but for a last Z, which other
// files have as a small letter.
func ofExtension(ext string) (f archive.Format, known bool) {
	lower := strings.ToLower(ext)
	if f, known = byExtension[lower]; !known && strings.HasSuffix(ext, "Z") {
		f, known = byExtension[strings.TrimSuffix(lower, "z")+"Z"]
	}
	return f, known
}

// Names lists the names of all formats.
func Names() []string { return names(func(archive.Format) bool { return true }) }

// Writable lists the names of those that are written as well.
func Writable() []string { return names(func(f archive.Format) bool { return f.NewWriter != nil }) }

func names(of func(archive.Format) bool) []string {
	var names []string
	for _, f := range All {
		if of(f) {
			names = append(names, f.Name)
		}
	}
	slices.Sort(names)
	return names
}
