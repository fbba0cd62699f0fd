package iso

import (
	"bytes"
	"io"
)

// A raw sector has a sync pattern and a header before its data, and the codes that
// correct errors after it (ECMA-130, section 14).
const (
	rawSector  = 2352
	rawHeader  = 16
	subheader  = 8 // of mode 2, form 1
	modeOffset = 15
)

var sync = []byte{0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0}

// raw is the data of an image of raw sectors.
type raw struct {
	r     io.ReaderAt
	skip  int64 // of each sector, before its data
	size  int64
	block int64
}

// cooked is the data of an image of raw sectors; nil: it is none.
func cooked(r io.ReaderAt, size int64) *raw {
	var head [rawHeader]byte
	if n, _ := r.ReadAt(head[:], 0); n < len(head) || !bytes.HasPrefix(head[:], sync) {
		return nil
	}
	c := &raw{r: r, skip: rawHeader, block: rawSector, size: size / rawSector * sector}
	switch head[modeOffset] {
	case 1:
	case 2:
		c.skip += subheader
	default:
		return nil
	}
	return c
}

// ReadAt reads data sector by sector.
func (c *raw) ReadAt(p []byte, at int64) (n int, err error) {
	if c == nil {
		return 0, io.EOF
	}
	for n < len(p) {
		if at >= c.size {
			return n, io.EOF
		}
		in := at % sector
		piece := p[n:min(len(p), n+int(sector-in))]
		read, err := c.r.ReadAt(piece, at/sector*c.block+c.skip+in)
		n, at = n+read, at+int64(read)
		if read < len(piece) {
			return n, err
		}
	}
	return n, nil
}
