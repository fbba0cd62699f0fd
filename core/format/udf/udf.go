// Package udf reads disc images of the Universal Disk Format (ECMA-167, 3rd edition;
// OSTA UDF 1.02 to 2.60) of 2,048-byte sectors: with physical, sparable and metadata
// partitions. Of an image that is in ISO 9660 as well, the richer of the two counts.
package udf

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/format/iso"
)

// Format is an image of a disc. It is only read.
var Format = archive.Format{
	Name:       "udf",
	Extensions: []string{".udf"},
	Hardlinks:  true,
	Identify:   func(r io.ReaderAt, _ int64) bool { return identifies(r) },
	Open: func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) {
		z, err := Open(r, size, o)
		if !iso.Format.Identify(r, size) {
			return z, err
		}
		other, failed := iso.Open(r, size, o)
		switch {
		case failed != nil:
			return z, err
		case err != nil, len(other.Entries()) > len(z.Entries()), len(other.Entries()) == len(z.Entries()) && other.RockRidge():
			return other, nil
		}
		return z, nil
	},
}

const sector = 2048

// identifies looks for the descriptor of this format among those that tell which there
// are (ECMA-167, part 2, 9.1; part 3, 9.1).
func identifies(r io.ReaderAt) bool {
	const first, most = 16, 16
	for at := int64(first); at < first+most; at++ {
		var b [6]byte
		if n, _ := r.ReadAt(b[:], at*sector); n < len(b) {
			return false
		}
		switch string(b[1:]) {
		case "NSR02", "NSR03":
			return true
		case "BEA01", "CD001", "BOOT2", "CDW02":
		default:
			return false
		}
	}
	return false
}
