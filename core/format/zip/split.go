package zip

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Segmented is what a split archive is written to: files of a given size, one
// after the other.
type Segmented interface {
	io.Writer

	// Reserve makes sure that the next n bytes go into one segment, and
	// returns its number, from 0, and the offset in it where they start.
	Reserve(n int) (segment int, offset int64, err error)
}

// What the specification allows of segments, 8.4; their number is kept to what
// the fields without ZIP64 can hold.
const (
	MinSegment  = 64 << 10
	MaxSegment  = max32
	maxSegments = max16 - 1
)

// NewSplitWriter starts an archive that goes over several segments (8.5): no
// record is ever cut by their borders. See NewWriter.
func NewSplitWriter(s Segmented, o archive.WriteOptions) (*Writer, error) {
	w := NewWriter(struct{ io.Writer }{s}, o)
	w.split = s
	_, err := w.record(le.AppendUint32(nil, splitSignature))
	return w, err
}

// Unsplit is what the first bytes of a split archive become when one segment
// was enough for all of it.
var Unsplit = le.AppendUint32(nil, unsplitSignature)

// place is where a record starts.
type place struct {
	disk   uint16
	offset int64 // in that segment
}

// record writes bytes that stay together.
func (w *Writer) record(b []byte) (place, error) {
	at, err := w.reserve(len(b))
	if err != nil {
		return at, err
	}
	return at, w.write(b)
}

// reserve makes sure that the next n bytes stay together, and says where they
// start.
func (w *Writer) reserve(n int) (place, error) {
	if w.split == nil {
		return place{offset: w.offset}, nil
	}
	if err := w.out.Flush(); err != nil {
		return place{}, fault.Writing("", err)
	}
	segment, offset, err := w.split.Reserve(n)
	if err == nil && segment > maxSegments {
		err = fault.New(fault.Usage, "a split ZIP archive has at most %d parts", maxSegments+1).Suggest(fault.LargerParts)
	}
	return place{uint16(segment), offset}, fault.Writing("", err)
}

// written is where the directory went.
type written struct {
	start  place
	last   uint16 // the segment of its last header
	onLast uint64 // headers there
}

// writeDirectory writes the central headers, each in one segment.
func (w *Writer) writeDirectory() (d written, err error) {
	rest := w.directory.Bytes()
	if w.split == nil {
		d.start, d.onLast = place{offset: w.offset}, w.entries
		return d, w.write(rest)
	}
	if d.start, err = w.reserve(0); err != nil {
		return d, err
	}
	for n := uint64(0); n < w.entries; n++ {
		length := centralLength + int(le.Uint16(rest[28:])) + int(le.Uint16(rest[30:])) + int(le.Uint16(rest[32:]))
		at, err := w.record(rest[:length])
		if err != nil {
			return d, err
		}
		if n == 0 {
			d.start = at
		}
		if at.disk != d.last {
			d.last, d.onLast = at.disk, 0
		}
		d.onLast++
		rest = rest[length:]
	}
	return d, nil
}
