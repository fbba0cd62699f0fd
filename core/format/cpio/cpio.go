// Package cpio reads cpio archives: the octet-oriented format of POSIX (IEEE Std
// 1003.1, utility pax, "cpio Interchange Format"), the binary one that came before it,
// in both byte orders, and the portable one with numbers of 32 bits, with and without
// checksums; and that of packages with files above 4 GiB, whose headers only say which
// file of the package follows. Several may stand one behind the other, packed ones too: that is what
// early boot images are.
package cpio

import (
	"bufio"
	"bytes"
	"io"

	"widecrate/core/archive"
)

// Format is a cpio archive. It is only read.
var Format = archive.Format{
	Name:       "cpio",
	Extensions: []string{".cpio"},
	Hardlinks:  true,
	Identify: func(r io.ReaderAt, _ int64) bool {
		b := make([]byte, portable.header)
		n, err := r.ReadAt(b, 0)
		return (err == nil || err == io.EOF) && IsHeader(b[:n])
	},
	Open: func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
	OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
		return NewStream(bufio.NewReaderSize(io.NewSectionReader(r, 0, size), 256<<10), o), nil
	},
}

// What headers start with.
const (
	magicNew    = "070701"
	magicSummed = "070702" // the same, with checksums
	magicNumber = "07070X" // the number of a file of a package, and nothing else
	magicOctal  = "070707"
	magicBinary = "\xc7\x71" // 070707 as 16 bits, and in the other byte order
	magicTurned = "\x71\xc7"
)

// trailer is the name of the last entry.
const trailer = "TRAILER!!!"

// longestName bounds a name, in bytes; no system takes more.
const longestName = 64 << 10

// A dialect is one of the formats.
type dialect struct {
	header int   // bytes
	align  int64 // of what follows the name, and the data
	parse  func(b []byte) (header, bool)
}

// header is what all of them have.
type header struct {
	device, inode uint64
	mode, links   uint64
	owned         bool // by others than user and group 0
	modified      int64
	name          int64 // bytes, the zero at its end included
	size          int64
	sum           uint64
	summed        bool
}

var (
	portable = dialect{110, 4, parseNew}
	numbered = dialect{14, 4, parseNumbered}
	octal    = dialect{76, 1, parseOctal}
	words    = dialect{26, 2, parseBinary}
)

// IsHeader reports whether a block starts with the header of an entry.
func IsHeader(b []byte) bool {
	d := dialectOf(b)
	if d == nil || len(b) < d.header {
		return false
	}
	h, ok := d.parse(b)
	return ok && h.name > 0 && h.name <= longestName
}

func dialectOf(b []byte) *dialect {
	switch {
	case bytes.HasPrefix(b, []byte(magicNew)), bytes.HasPrefix(b, []byte(magicSummed)):
		return &portable
	case bytes.HasPrefix(b, []byte(magicNumber)):
		return &numbered
	case bytes.HasPrefix(b, []byte(magicOctal)):
		return &octal
	case bytes.HasPrefix(b, []byte(magicBinary)), bytes.HasPrefix(b, []byte(magicTurned)):
		return &words
	}
	return nil
}

// digits reads a number.
func digits(b []byte, base uint64) (v uint64, ok bool) {
	for _, c := range b {
		d := uint64(99)
		switch {
		case c >= '0' && c <= '9':
			d = uint64(c - '0')
		case c >= 'a' && c <= 'f':
			d = uint64(c-'a') + 10
		case c >= 'A' && c <= 'F':
			d = uint64(c-'A') + 10
		}
		if d >= base {
			return 0, false
		}
		v = v*base + d
	}
	return v, true
}

// parseNew reads 13 numbers of eight hexadecimal digits after the magic: inode, mode,
// user, group, links, time, size, device (2), special device (2), length of the name,
// checksum.
func parseNew(b []byte) (h header, ok bool) {
	var v [13]uint64
	for i := range v {
		if v[i], ok = digits(b[6+8*i:14+8*i], 16); !ok {
			return h, false
		}
	}
	h = header{device: v[7]<<32 | v[8], inode: v[0], owned: v[2]|v[3] != 0, mode: v[1], links: v[4], modified: int64(int32(v[5])), name: int64(v[11]), size: int64(v[6]), sum: v[12]}
	h.summed = string(b[:6]) == magicSummed && archive.KindOfMode(uint32(h.mode)) == archive.File
	return h, true
}

// parseNumbered reads the number of a file, in eight hexadecimal digits, as its inode.
// The name is not there: it counts as its end alone.
func parseNumbered(b []byte) (h header, ok bool) {
	number, ok := digits(b[6:14], 16)
	return header{inode: number, name: 1}, ok
}

// parseOctal reads octal digits: device, inode, mode, user, group, links and special
// device in six each, the time in eleven, the length of the name in six, and the size
// in eleven.
func parseOctal(b []byte) (h header, ok bool) {
	var v [10]uint64
	at := 6
	for i, n := range []int{6, 6, 6, 6, 6, 6, 6, 11, 6, 11} {
		if v[i], ok = digits(b[at:at+n], 8); !ok {
			return h, false
		}
		at += n
	}
	return header{device: v[0], inode: v[1], owned: v[3]|v[4] != 0, mode: v[2], links: v[5], modified: int64(v[7]), name: int64(v[8]), size: int64(v[9])}, true
}

// parseBinary reads numbers of 16 bits in the order of the machine that wrote them:
// device, inode, mode, user, group, links, special device, time (2, the higher first),
// length of the name, and size (2).
func parseBinary(b []byte) (h header, ok bool) {
	turned := string(b[:2]) == magicTurned
	u := func(i int) uint64 {
		if turned {
			return uint64(b[2*i])<<8 | uint64(b[2*i+1])
		}
		return uint64(b[2*i]) | uint64(b[2*i+1])<<8
	}
	return header{device: u(1), inode: u(2), owned: u(4)|u(5) != 0, mode: u(3), links: u(6), modified: int64(u(8)<<16 | u(9)), name: int64(u(10)), size: int64(u(11)<<16 | u(12))}, true
}
