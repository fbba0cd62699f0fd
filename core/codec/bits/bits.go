// Package bits reads numbers of some bits from a stream, the lowest bit first, as the older
// methods of compression keep them.
package bits

import (
	"encoding/binary"
	"io"
)

// A Source is what bits are taken from: something of which what is at hand can be looked at,
// such as a bufio.Reader.
type Source interface {
	Buffered() int
	Peek(n int) ([]byte, error)
	Discard(n int) (int, error)
}

// A Reader takes numbers from a source. It may look ahead by up to eight bytes; Rest says what
// of them was not used.
type Reader struct {
	src Source
	in  []byte // what is at hand
	at  int    // how much of it was taken

	// The bits that were taken and not used yet, the next one lowest. Above Count bits may
	// stand some that were not taken yet.
	Bits  uint64
	Count uint
	err   error // of the source
}

// Most is how many bits there are at least after Fill, unless the source ended.
const Most = 56

// Reset makes it read from src.
func (r *Reader) Reset(src Source) { *r = Reader{src: src} }

// Fill takes what there is room for.
func (r *Reader) Fill() {
	for r.Count < Most {
		if r.at+8 <= len(r.in) {
			r.Bits |= binary.LittleEndian.Uint64(r.in[r.at:]) << r.Count
			r.at += int(63-r.Count) >> 3
			r.Count |= Most
			return
		}
		if r.at == len(r.in) && !r.look() {
			return
		}
		r.Bits &= 1<<r.Count - 1
		r.Bits |= uint64(r.in[r.at]) << r.Count
		r.at++
		r.Count += 8
	}
}

// look makes more of the source be at hand.
func (r *Reader) look() bool {
	if r.err == nil {
		_, r.err = r.src.Discard(r.at)
	}
	r.in, r.at = nil, 0
	if r.err == nil {
		r.in, r.err = r.src.Peek(max(1, r.src.Buffered()))
	}
	return len(r.in) > 0
}

// Take returns the next n bits, at most Most. The error is io.ErrUnexpectedEOF where the source
// has no more of them.
func (r *Reader) Take(n uint) (uint32, error) {
	if r.Count < n {
		if r.Fill(); r.Count < n {
			return 0, r.Err()
		}
	}
	v := r.Bits & (1<<n - 1)
	r.Drop(n)
	return uint32(v), nil
}

// Drop uses n bits, which are there.
func (r *Reader) Drop(n uint) {
	r.Bits >>= n
	r.Count -= n
}

// Err is why there are no more bits.
func (r *Reader) Err() error {
	if r.err == io.EOF || r.err == nil {
		return io.ErrUnexpectedEOF
	}
	return r.err
}

// Rest ends reading: the source is behind what was looked at. It returns the bits that were
// not used, as a number, and how many they are.
func (r *Reader) Rest() (bits uint64, count uint, err error) {
	_, err = r.src.Discard(r.at)
	r.in, r.at = nil, 0
	return r.Bits & (1<<r.Count - 1), r.Count, err
}
