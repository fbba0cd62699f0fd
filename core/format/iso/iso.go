// Package iso reads disc images: the volumes of ISO 9660 (ECMA-119, 4th edition) with
// the names of Joliet, and the names, modes, links and times of the Rock Ridge
// Interchange Protocol (RRIP 1.12) on top of the System Use Sharing Protocol (SUSP
// 1.12). Images of raw sectors are read as well.
package iso

import (
	"io"

	"widecrate/core/archive"
)

// Format is an image of a disc. It is only read.
var Format = archive.Format{
	Name:       "iso",
	Extensions: []string{".iso"},
	Identify: func(r io.ReaderAt, size int64) bool {
		return identifies(r) || identifies(cooked(r, size))
	},
	Open: func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
}

// sector is the length of a logical sector, and of a volume descriptor, in bytes
// (6.1.2 and 8); systemArea is how many of them come before the descriptors (6.2.1).
const (
	sector     = 2048
	systemArea = 16
)

const standard = "CD001" // 8.1.2

func identifies(r io.ReaderAt) bool {
	var b [6]byte
	if r == nil {
		return false
	}
	n, err := r.ReadAt(b[:], systemArea*sector)
	return n == len(b) && (err == nil || err == io.EOF) && string(b[1:]) == standard
}
