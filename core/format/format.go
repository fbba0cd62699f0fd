// Package format is the list of the archive formats, and tells which one some
// content is in. A new format is one folder beside this file and one line in it.
package format

import (
	"io"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
)

// All has every format, in the order in which content is held against them.
var All = []archive.Format{zip.Format}

// Identify tells the format of some content by the content alone. Content of
// no known format is of kind fault.Damaged.
func Identify(r io.ReaderAt, size int64) (archive.Format, error) {
	if size == 0 {
		return archive.Format{}, fault.New(fault.Damaged, "it is empty").Advise("fetch it again: an archive has at least one record")
	}
	for _, f := range All {
		if f.Identify(r, size) {
			return f, nil
		}
	}
	return archive.Format{}, fault.New(fault.Damaged, "it is not an archive that widecrate reads").
		Advise("widecrate reads: " + strings.Join(Names(), ", "))
}

// Open opens an archive of size bytes in whatever format it is.
func Open(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) {
	f, err := Identify(r, size)
	if err != nil {
		return nil, err
	}
	return f.Open(r, size, o)
}

// ByName returns the format of a file name by its extension.
func ByName(name string) (archive.Format, bool) {
	for _, f := range All {
		if _, found := cutExtension(name, f); found {
			return f, true
		}
	}
	return archive.Format{}, false
}

// Stem returns the last part of a file name without its archive extension, both
// of a double one, or else without whatever extension it has.
func Stem(name string) string {
	for _, f := range All {
		if stem, found := cutExtension(name, f); found {
			return stem
		}
	}
	if stem := strings.TrimSuffix(name, path.Ext(name)); stem != "" {
		return stem
	}
	return name
}

func cutExtension(name string, f archive.Format) (string, bool) {
	for _, ext := range f.Extensions {
		if n := len(name) - len(ext); n > 0 && strings.EqualFold(name[n:], ext) {
			return name[:n], true
		}
	}
	return name, false
}

// Names lists the names of all formats.
func Names() []string {
	var names []string
	for _, f := range All {
		names = append(names, f.Name)
	}
	return slices.Sorted(slices.Values(names))
}
