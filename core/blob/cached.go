package blob

import "io"

// Cached keeps at hand the piece of r that was read last, for those who read many small
// things that lie near each other. It is for one goroutine.
func Cached(r io.ReaderAt) io.ReaderAt { return &cached{r: r} }

type cached struct {
	r     io.ReaderAt
	piece [128 << 10]byte
	from  int64
	held  int
}

func (c *cached) ReadAt(p []byte, at int64) (int, error) {
	if len(p) > len(c.piece)/2 {
		return c.r.ReadAt(p, at)
	}
	if at < c.from || at+int64(len(p)) > c.from+int64(c.held) {
		n, err := c.r.ReadAt(c.piece[:], at)
		c.from, c.held = at, n
		if n < len(p) {
			return copy(p, c.piece[:n]), err
		}
	}
	return copy(p, c.piece[at-c.from:]), nil
}
