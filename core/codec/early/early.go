// Package early decodes the methods that the first programs for ZIP wrote, and later ones do
// not: shrink, reduce and implode. Sections are those of the .ZIP File Format Specification.
// None of these streams says where it ends: that takes the size of the data.
package early

import (
	"errors"
	"io"

	"widecrate/core/codec/bits"
)

// A Decoder reads one stream.
type Decoder struct {
	in   bits.Reader
	left int64                // bytes of the data that were not decoded
	step func(*Decoder) error // decodes a piece that there is room for

	// What was decoded. Before the first byte there are zeros, which can be referred to.
	buffer      []byte
	read, write int // positions: of the next byte to hand out, and to fill in
	err         error
}

const (
	reach = 8 << 10  // bytes that a piece can refer back to, at most
	room  = 56 << 10 // how much is decoded before it is handed out
	most  = 8 << 10  // bytes that one piece has, at most
)

func newDecoder(src bits.Source, size int64, step func(*Decoder) error) *Decoder {
	d := &Decoder{left: size, step: step, buffer: make([]byte, reach+room+most), read: reach, write: reach}
	d.in.Reset(src)
	return d
}

// Read reads decoded bytes. It returns io.EOF after as many as there should be, and
// io.ErrUnexpectedEOF when the source ends before.
func (d *Decoder) Read(p []byte) (int, error) {
	if d.read == d.write && len(p) > 0 {
		d.decode()
	}
	n := copy(p, d.buffer[d.read:d.write])
	d.read += n
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, d.err
}

// decode fills the buffer.
func (d *Decoder) decode() {
	if d.write > reach+room {
		copy(d.buffer, d.buffer[d.write-reach:d.write])
		d.read, d.write = reach, reach
	}
	for d.err == nil && d.write <= reach+room && d.left > 0 {
		before := d.write
		d.err = d.step(d)
		d.left -= int64(d.write - before)
	}
	switch {
	case d.err != nil:
	case d.left < 0: // the last piece has more than there should be
		d.err = errors.New("its data is longer than its size")
	case d.left == 0:
		d.err = d.end()
	}
}

// end leaves out what may stand behind the last code, less than one word: the packers that
// wrote it are too old to know what they filled up to.
func (d *Decoder) end() error {
	d.in.Fill()
	if _, _, err := d.in.Rest(); err != nil {
		return err
	}
	return io.EOF
}

// put adds one byte.
func (d *Decoder) put(c byte) {
	d.buffer[d.write] = c
	d.write++
}

// match copies what stands a distance before, also where that is what the copy itself writes.
func (d *Decoder) match(distance, length int) {
	for to := d.write + length; d.write < to; {
		d.write += copy(d.buffer[d.write:to], d.buffer[d.write-distance:d.write])
	}
}
