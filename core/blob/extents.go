package blob

import (
	"io"

	"widecrate/core/fault"
)

// Hole is where a Range starts that lies nowhere: it is zeros.
const Hole = -1

// Extents reads what lies in ranges of r, one behind the other. It must be there:
// the archive has said so, and an end before is of kind fault.Unreadable.
func Extents(r io.ReaderAt, ranges ...Range) io.ReadCloser { return &extents{r: r, left: ranges} }

type extents struct {
	r    io.ReaderAt
	left []Range
	done int64 // bytes of the first
}

func (e *extents) Read(p []byte) (int, error) {
	for len(e.left) > 0 && e.done >= e.length() {
		e.left, e.done = e.left[1:], 0
	}
	if len(e.left) == 0 {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), e.length()-e.done)]
	from := e.left[0].From
	if from == Hole {
		clear(p)
		e.done += int64(len(p))
		return len(p), nil
	}
	n, err := e.r.ReadAt(p, from+e.done)
	e.done += int64(n)
	switch {
	case n == len(p):
		err = nil
	case err == io.EOF:
		err = fault.New(fault.Unreadable, "the archive became shorter while it was read")
	default:
		err = fault.Reading("", err)
	}
	return n, err
}

// length is that of the first range; of a hole, To is the length.
func (e *extents) length() int64 {
	if e.left[0].From == Hole {
		return e.left[0].To
	}
	return e.left[0].To - e.left[0].From
}

func (e *extents) Close() error { return nil }
