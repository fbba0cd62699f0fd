package blob

import (
	"cmp"
	"errors"
	"io"
	"math"
	"sync"

	"widecrate/core/fault"
)

// Endless stands for the size of what comes in order, as long as nothing says how
// much it is.
const Endless = math.MaxInt64

// A Flow is bytes that come once, in order: from standard input, or a server
// without ranges. It can be read at any place until it is settled, and from then on
// only forwards. It may be used on several goroutines.
type Flow struct {
	source io.ReadCloser

	mu      sync.Mutex
	held    []byte // what came and may be read again
	from    int64  // its place
	settled bool
	err     error // of the source, at the end of held
}

// mostHeld bounds what is kept of a flow until it is settled.
const mostHeld = 64 << 20

// NewFlow reads a source, and closes it in the end.
func NewFlow(source io.ReadCloser) *Flow { return &Flow{source: source} }

// Size is how many bytes came so far.
func (f *Flow) Size() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.from + int64(len(f.held))
}

// Files are none.
func (f *Flow) Files() []File { return nil }

// Close closes the source.
func (f *Flow) Close() error { return f.source.Close() }

// Settle lets go of what has been read.
func (f *Flow) Settle() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.settled = true
}

// ReadAt reads what has come, and waits for the rest.
func (f *Flow) ReadAt(p []byte, at int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case at < f.from:
		return 0, fault.New(fault.Unreadable, "it comes in order, and cannot be read again from byte %d", at)
	case f.settled && at > f.from:
		f.drop(at)
	}
	if len(f.held) == 0 && f.settled && f.err == nil {
		var n int
		n, f.err = io.ReadFull(f.source, p)
		f.from += int64(n)
		return n, f.ended()
	}
	for f.err == nil && f.from+int64(len(f.held)) < at+int64(len(p)) {
		if len(f.held) > mostHeld {
			return 0, errors.New("too much of it would have to be kept")
		}
		f.more(int(min(at+int64(len(p))-f.from-int64(len(f.held)), chunk)))
	}
	if at-f.from > int64(len(f.held)) {
		return 0, f.ended()
	}
	n := copy(p, f.held[at-f.from:])
	if f.settled {
		f.drop(at + int64(n))
	}
	if n < len(p) {
		return n, f.ended()
	}
	return n, nil
}

// ended is the error at the end of what came.
func (f *Flow) ended() error {
	if f.err == io.ErrUnexpectedEOF { // of a full read: the end
		return io.EOF
	}
	return f.err
}

// more adds so many bytes to what is held, or fewer at the end.
func (f *Flow) more(n int) {
	was := len(f.held)
	f.held = append(f.held, make([]byte, n)...)
	var m int
	m, f.err = io.ReadFull(f.source, f.held[was:])
	f.held = f.held[:was+m]
}

// drop lets go of what is before a place, read or not.
func (f *Flow) drop(at int64) {
	n := min(at-f.from, int64(len(f.held)))
	f.held, f.from = f.held[n:], f.from+n
	if skip := at - f.from; skip > 0 && f.err == nil {
		m, err := io.CopyN(io.Discard, f.source, skip)
		f.from += m
		f.err = err
	}
}

// Rest is all that is still to come: from the start, before the flow is settled.
func (f *Flow) Rest() io.Reader {
	return &rest{f, cmp.Or(f.from, 0)}
}

type rest struct {
	f  *Flow
	at int64
}

func (r *rest) Read(p []byte) (int, error) {
	n, err := r.f.ReadAt(p, r.at)
	r.at += int64(n)
	if n > 0 {
		return n, nil
	}
	return 0, err
}
