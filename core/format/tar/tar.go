// Package tar reads and writes tar archives: the ustar and pax formats of POSIX
// (IEEE Std 1003.1, utility pax, sections "ustar Interchange Format" and "pax
// Interchange Format"), the older one without a magic, and the extensions for
// long names, large numbers and sparse files that are found in the wild.
package tar

import (
	"bufio"
	"bytes"
	"io"

	"widecrate/core/archive"
)

// Format is plain tar, without compression.
var Format = archive.Format{
	Name:       "tar",
	Extensions: []string{".tar"},
	Identify: func(r io.ReaderAt, size int64) bool {
		var b block
		_, err := r.ReadAt(b[:], 0)
		return err == nil && (IsHeader(b[:]) || IsEmpty(b[:], io.NewSectionReader(r, blockSize, size-blockSize)))
	},
	Open: func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
	OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
		return NewStream(bufio.NewReaderSize(io.NewSectionReader(r, 0, size), 256<<10), o), nil
	},
	NewWriter: func(w io.Writer, _ archive.WriteOptions) (archive.Writer, error) { return NewWriter(w), nil },
	Continues: continues,
	Hardlinks: true,
	NeedsSize: true,
}

// longestEmpty bounds what is looked at of an archive of nothing but its end mark.
const longestEmpty = 1 << 20

// IsEmpty reports whether all that there is are blocks of zeros, at least the two of an end
// mark: an archive of nothing, which is made as often as a file of zeros is not.
func IsEmpty(start []byte, rest io.Reader) bool {
	if len(bytes.Trim(start, "\x00")) > 0 {
		return false
	}
	piece := make([]byte, 8*blockSize)
	for all := 0; ; {
		n, err := io.ReadFull(rest, piece)
		all += n
		switch {
		case len(bytes.Trim(piece[:n], "\x00")) > 0 || all > longestEmpty:
			return false
		case err == io.EOF || err == io.ErrUnexpectedEOF:
			return all > 0 && all%blockSize == 0
		case err != nil:
			return false
		}
	}
}
