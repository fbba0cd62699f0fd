package lzma

import (
	"io"
)

// A Reader2 decodes LZMA2: chunks, one after the other, up to a zero byte. What it needs is
// made once for all streams that it reads.
type Reader2 struct {
	decoder
	src       io.Reader
	head      [6]byte
	chunk     []byte
	taken     int   // in the window: what was read
	used      int64 // bytes of the source
	needDict  bool  // nothing has reset the dictionary yet
	needState bool  // nor the state, nor said the properties
	err       error
}

// Reset goes on with another stream, whose matches reach as far back as the dictionary is
// large.
func (r *Reader2) Reset(src io.Reader, dictionary int64) {
	r.src, r.needDict, r.needState, r.err = src, true, true, nil
	r.used = 0
	r.dictionary = int(min(dictionary, mostDictionary))
	r.pos, r.start, r.taken = 0, 0, 0
}

// Read reads data of the stream; io.EOF follows its last chunk, and nothing is read behind it.
func (r *Reader2) Read(p []byte) (int, error) {
	for r.taken == r.pos {
		if r.err == nil {
			r.err = place(r.next(), r.used)
		}
		if r.err != nil {
			return 0, r.err
		}
	}
	n := copy(p, r.window[r.taken:r.pos])
	r.taken += n
	return n, nil
}

// WriteTo writes all that follows.
func (r *Reader2) WriteTo(w io.Writer) (written int64, err error) {
	for {
		for r.taken == r.pos {
			if r.err == nil {
				r.err = place(r.next(), r.used)
			}
			if r.err == io.EOF {
				return written, nil
			}
			if r.err != nil {
				return written, r.err
			}
		}
		n, err := w.Write(r.window[r.taken:r.pos])
		r.taken += n
		written += int64(n)
		if err != nil {
			return written, err
		}
	}
}

// The control bytes of chunks.
const (
	endOfChunks  = 0
	rawReset     = 1    // data as it is, and the dictionary is forgotten
	raw          = 2    // data as it is
	packed       = 0x80 // from here on, the low five bits are of the size
	packedReset  = 0xa0 // the state is forgotten
	packedProps  = 0xc0 // there are properties as well
	packedAnew   = 0xe0 // and the dictionary is forgotten
	longestChunk = 1 << 16
)

// next decodes the next chunk.
func (r *Reader2) next() error {
	if err := r.take(r.head[:1]); err != nil {
		return err
	}
	control := r.head[0]
	switch {
	case control == endOfChunks:
		return io.EOF
	case control > raw && control < packed, r.needDict && control != rawReset && control < packedAnew, r.needState && control >= packed && control < packedProps:
		return ErrCorrupt
	}
	r.needDict = false
	if control < packed {
		return r.copyChunk(control)
	}
	return r.decodeChunk(control)
}

// copyChunk takes a chunk of data that is not coded.
func (r *Reader2) copyChunk(control byte) error {
	if err := r.take(r.head[1:3]); err != nil {
		return err
	}
	size := int(r.head[1])<<8 + int(r.head[2]) + 1
	if control == rawReset {
		r.resetDictionary()
	}
	r.roomFor(size)
	err := r.take(r.window[r.pos : r.pos+size])
	if err == nil {
		r.pos += size
	}
	return err
}

// decodeChunk takes a chunk of data that is coded.
func (r *Reader2) decodeChunk(control byte) error {
	head := r.head[1:5]
	if control >= packedProps {
		head = r.head[1:6]
	}
	if err := r.take(head); err != nil {
		return err
	}
	size := int(control&0x1f)<<16 + int(head[0])<<8 + int(head[1]) + 1
	length := int(head[2])<<8 + int(head[3]) + 1
	if control >= packedProps {
		p, err := ParseProperties(head[4])
		if err != nil || p.LC+p.LP > 4 {
			return ErrCorrupt
		}
		r.Properties = p
		r.needState = false
	}
	if control >= packedAnew {
		r.resetDictionary()
	}
	if control >= packedReset {
		r.resetState()
	}
	if r.chunk == nil {
		r.chunk = make([]byte, longestChunk+slackIn)
	}
	if err := r.take(r.chunk[:length]); err != nil {
		return err
	}
	clear(r.chunk[length : length+slackIn])
	if length < 5 {
		return ErrCorrupt
	}
	if err := r.begin(r.chunk); err != nil {
		return err
	}
	r.at = 5
	r.roomFor(size)
	err := r.run(r.chunk, length, r.pos+size)
	if err == nil {
		r.coder = r.refill(r.chunk)
	}
	if err != nil || r.ended || r.owed > 0 || r.at != length || r.code != 0 {
		return ErrCorrupt
	}
	return nil
}

// roomFor makes room in the window, of which everything has been read.
func (r *Reader2) roomFor(n int) {
	r.room(n)
	r.taken = r.pos
}

// take reads bytes that have to be there.
func (r *Reader2) take(b []byte) error {
	n, err := io.ReadFull(r.src, b)
	r.used += int64(n)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return err
}
