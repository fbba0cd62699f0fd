package lzma

import (
	"io"
	"math"
)

// A Source is what a Reader reads from, and takes no byte more than its stream has.
type Source interface {
	Peek(n int) ([]byte, error)
	Discard(n int) (int, error)
}

// A Reader decodes one stream of LZMA.
type Reader struct {
	decoder
	src   Source
	in    []byte
	taken int   // in the window: what was read
	left  int64 // bytes that are still to come; -1: an end mark shows it
	used  int64 // bytes of the source
	err   error
}

// NewReader starts a stream: five bytes of a range coder, and symbols. size is what it holds,
// or -1 where an end mark shows it; with a size there may be one all the same.
func NewReader(src Source, p Properties, dictionary, size int64) (*Reader, error) {
	r := &Reader{src: src, left: size, in: make([]byte, atOnce+slackIn)}
	r.Properties, r.dictionary = p, int(min(max(dictionary, leastDictionary), mostDictionary))
	r.resetState()
	head, err := src.Peek(5)
	if len(head) < 5 {
		return nil, cutOff(err)
	}
	if err := r.begin(head); err != nil {
		return nil, err
	}
	r.used = 5
	_, err = src.Discard(5)
	return r, err
}

const (
	leastDictionary = 1 << 12
	mostDictionary  = math.MaxInt / 4 // with room for what else is in the window
	atOnce          = 4 << 10         // bytes of input
	perRun          = 64 << 10        // bytes of output, at most
	longestSymbol   = 20              // bytes that one can take
)

func cutOff(err error) error {
	if err == io.EOF || err == nil {
		return io.ErrUnexpectedEOF
	}
	return err
}

// Read reads data of the stream.
func (r *Reader) Read(p []byte) (int, error) {
	for r.taken == r.pos {
		if r.err == nil {
			r.err = place(r.more(), r.used+int64(r.at))
		}
		if r.err != nil && r.taken == r.pos {
			return 0, r.err
		}
	}
	n := copy(p, r.window[r.taken:r.pos])
	r.taken += n
	return n, nil
}

// more decodes some more.
func (r *Reader) more() error {
	r.room(perRun)
	r.taken = r.pos
	n := int64(perRun)
	if r.left >= 0 {
		n = min(n, r.left)
	}
	in, err := r.src.Peek(atOnce)
	if err != nil && err != io.EOF {
		return err
	}
	end := len(in)
	if err == nil { // more follows: the last symbols are read with that
		end -= longestSymbol
	}
	clear(r.in[copy(r.in, in):])
	r.at = 0
	if n > 0 {
		if err := r.run(r.in, end, r.pos+int(n)); err != nil {
			return err
		}
	}
	if r.left >= 0 {
		r.left -= int64(r.pos - r.taken)
	}
	if r.left == 0 && r.owed == 0 && !r.ended {
		r.endMark(end)
	}
	if r.ended || r.left == 0 {
		r.coder = r.refill(r.in)
	}
	if r.at > len(in) {
		return io.ErrUnexpectedEOF
	}
	if _, err := r.src.Discard(r.at); err != nil {
		return err
	}
	r.used += int64(r.at)
	r.at = 0
	switch {
	case r.ended && (r.left > 0 || r.code != 0), r.left == 0 && r.owed > 0:
		return ErrCorrupt
	case r.ended || r.left == 0:
		return io.EOF
	}
	return nil
}

// endMark takes an end mark, if one follows where the size says that all is there.
func (r *Reader) endMark(end int) {
	if r.refill(r.in).code == 0 {
		return
	}
	before := *r
	if err := r.run(r.in, end, r.pos+1); err != nil || !r.ended {
		before.left = 0
		*r = before
	}
}
