package blob

import (
	"io"

	"widecrate/core/fault"
)

// A Front is read from front to back.
type Front interface {
	io.Reader

	// Skip leaves out so many bytes. Where there are fewer, it goes to the end, and
	// the error is io.EOF or io.ErrUnexpectedEOF.
	Skip(n int64) error

	// Offset is how far it has come.
	Offset() int64
}

// FrontOf reads size bytes of r in pieces that hold many small things at once, and
// leaps over what is left out.
func FrontOf(r io.ReaderAt, size int64) Front { return &leaping{r: r, size: size} }

type leaping struct {
	r      io.ReaderAt
	size   int64
	at     int64
	block  [64 << 10]byte
	from   int64 // of what is in block
	filled int
}

func (w *leaping) Offset() int64 { return w.at }

func (w *leaping) Skip(n int64) error {
	if n > w.size-w.at {
		w.at = w.size
		return io.ErrUnexpectedEOF
	}
	w.at += n
	return nil
}

func (w *leaping) Read(p []byte) (int, error) {
	if w.at >= w.size {
		return 0, io.EOF
	}
	if w.at < w.from || w.at >= w.from+int64(w.filled) {
		n, err := w.r.ReadAt(w.block[:min(int64(len(w.block)), w.size-w.at)], w.at)
		if n == 0 {
			if err == io.EOF {
				return 0, io.ErrUnexpectedEOF
			}
			return 0, fault.Reading("", err)
		}
		w.from, w.filled = w.at, n
	}
	n := copy(p, w.block[w.at-w.from:w.filled])
	w.at += int64(n)
	return n, nil
}

// FrontStream reads r as it comes. Errors of r are returned as they are.
func FrontStream(r io.Reader) Front { return &counting{r: r} }

type counting struct {
	r  io.Reader
	at int64
}

func (c *counting) Offset() int64 { return c.at }

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.at += int64(n)
	return n, err
}

func (c *counting) Skip(n int64) error {
	if n <= 0 {
		return nil
	}
	_, err := io.CopyN(io.Discard, c, n)
	return err
}
