package archive

import (
	"io"
	"sync"
)

// Data is written in pieces of this size, fewer system calls for most files
// than any other choice.
const piece = 256 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}

// Copy is io.Copy, but for two things: what is written are full pieces, even where
// r gives little at a time; and an error of r is never taken for its end.
func Copy(w io.Writer, r io.Reader) (written int64, err error) {
	if direct, ok := r.(io.WriterTo); ok {
		return direct.WriteTo(w)
	}
	block := pieces.Get().(*[piece]byte)
	defer pieces.Put(block)
	for err == nil {
		n := 0
		for n < len(block) && err == nil {
			var read int
			read, err = r.Read(block[n:])
			n += read
		}
		if n == 0 {
			break
		}
		if _, failed := w.Write(block[:n]); failed != nil {
			return written, failed
		}
		written += int64(n)
	}
	if err == io.EOF {
		err = nil
	}
	return written, err
}
