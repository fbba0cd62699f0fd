// Package tar reads and writes tar archives: the ustar and pax formats of POSIX
// (IEEE Std 1003.1, utility pax, sections "ustar Interchange Format" and "pax
// Interchange Format"), the older one without a magic, and the extensions for
// long names, large numbers and sparse files that are found in the wild.
package tar

import (
	"bufio"
	"io"

	"widecrate/core/archive"
)

// Format is plain tar, without compression.
var Format = archive.Format{
	Name:       "tar",
	Extensions: []string{".tar"},
	Identify: func(r io.ReaderAt, _ int64) bool {
		var b block
		_, err := r.ReadAt(b[:], 0)
		return err == nil && IsHeader(b[:])
	},
	Open: func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
	OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
		return NewStream(bufio.NewReaderSize(io.NewSectionReader(r, 0, size), 256<<10), o), nil
	},
	NewWriter: func(w io.Writer, _ archive.WriteOptions) (archive.Writer, error) { return NewWriter(w), nil },
	Hardlinks: true,
	NeedsSize: true,
}
