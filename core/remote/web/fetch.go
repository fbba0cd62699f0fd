package web

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"slices"
	"sync"
	"time"

	"widecrate/core/remote/wire"
)

// overlap is how much is read once more after a break where the server has nothing
// that says whether the bytes are still the same.
const overlap = 4 << 10

// block is how much is passed on at a time.
const block = 256 << 10

var buffers = sync.Pool{New: func() any { return new([block]byte) }}

// Fetch is that of wire.Source: all ranges in one request, if the server takes it.
func (r *resource) Fetch(ctx context.Context, ranges []wire.Range, take func(at int64, p []byte) error) error {
	f := &fetch{resource: r, left: slices.Clone(ranges), take: take}
	buffer := buffers.Get().(*[block]byte)
	defer buffers.Put(buffer)
	f.buffer = buffer[:]
	if f.left[0].To == wire.Unknown && r.Size != wire.Unknown {
		f.left[0].To = r.Size
	}
	f.sum.SetSeed(maphash.MakeSeed())
	return r.client.Again(ctx, func() (progress bool, err error) {
		for start := f.passed; !f.done(); {
			before := f.passed
			err := f.once(ctx)
			if err == nil && f.passed == before && !f.done() {
				err = &wire.Lost{Err: errors.New("it sent nothing of what it was asked for")}
			}
			if err != nil && err != errOneByOne {
				return f.passed > start, err
			}
		}
		return true, nil
	})
}

// errOneByOne says that a server does not do several ranges in one answer.
var errOneByOne = errors.New("it does not do several ranges at once")

// fetch is one call of Fetch.
type fetch struct {
	*resource
	left   []wire.Range
	take   func(at int64, p []byte) error
	buffer []byte
	passed int64        // bytes in all
	tail   []byte       // the last of them in one piece, to compare with after a break
	tailTo int64        // where it ends
	sum    maphash.Hash // of all that was passed on, where there are no ranges
	ended  bool         // of unknown size
}

func (f *fetch) done() bool {
	f.left = slices.DeleteFunc(f.left, func(r wire.Range) bool { return r.From == r.To })
	return len(f.left) == 0 || f.ended
}

// once makes one request for what is left, and passes on what comes.
func (f *fetch) once(ctx context.Context) error {
	a, ranges, err := f.answer(ctx)
	if err != nil {
		return err
	}
	defer a.close()
	stop := context.AfterFunc(ctx, func() { a.cancel(nil) })
	defer stop()
	started, passed := time.Now(), f.passed
	defer func() { f.Host.Measured(0, f.passed-passed, time.Since(started)) }()
	body := &idle{Reader: a.Body, answer: a, after: f.client.Idle}
	switch {
	case !f.Ranges:
		return f.whole(a, body)
	case a.StatusCode == http.StatusRequestedRangeNotSatisfiable:
		return wire.ErrChanged
	case a.StatusCode != http.StatusPartialContent:
		if err := f.changed(a.Header, a.ContentLength); err != nil {
			return err
		}
		if f.single.Store(true); len(ranges) > 1 {
			return errOneByOne
		}
		return &wire.Lost{Err: errors.New("it answered with the whole where it was asked for a part")}
	}
	if kind, values, err := mime.ParseMediaType(a.Header.Get("Content-Type")); err == nil && kind == "multipart/byteranges" && len(ranges) > 1 {
		return f.several(a, multipart.NewReader(body, values["boundary"]))
	}
	if len(ranges) > 1 {
		f.single.Store(true)
	}
	return f.piece(a.Header, body, a.ContentLength)
}

// answer makes a request, or takes the answer to that which opened the resource.
func (f *fetch) answer(ctx context.Context) (a *answer, ranges []wire.Range, err error) {
	if f.left[0].From == f.at {
		if a = f.first.Swap(nil); a != nil {
			return a, f.left[:1], nil
		}
	}
	if f.Ranges {
		ranges = slices.Clone(f.left)
		if f.single.Load() {
			ranges = ranges[:1]
		}
		ranges[0].From -= f.back(ranges[0].From)
	}
	if a, err = f.ask(ctx, ranges, true); err != nil {
		return nil, nil, err
	}
	if err = refused(a.Response); err != nil {
		a.close()
		return nil, nil, err
	}
	return a, ranges, nil
}

// back is how many bytes before a place are read once more, because nothing else
// would tell that they changed.
func (f *fetch) back(at int64) int64 {
	if f.validator() != "" || at != f.tailTo {
		return 0
	}
	return int64(len(f.tail))
}

// piece passes on the body of an answer, or of a part of it, that has one range:
// what it has of those that are left. Its length is wire.Unknown where the server does not say it.
func (f *fetch) piece(h http.Header, body io.Reader, length int64) error {
	at, to, total, err := parseContentRange(h.Get("Content-Range"))
	if err != nil {
		return &wire.Lost{Err: fmt.Errorf("it does not say which range it sends: %w", err)}
	}
	if length != wire.Unknown && length != to-at {
		return &wire.Lost{Err: fmt.Errorf("it says that it sends %d bytes, and sends %d", to-at, length)}
	}
	if err := f.changed(h, total); err != nil {
		return err
	}
	body = io.LimitReader(body, to-at)
	for i := range f.left {
		want := &f.left[i]
		back := f.back(want.From)
		if want.From-back < at || want.From >= to {
			continue
		}
		if _, err := io.CopyN(io.Discard, body, want.From-back-at); err != nil {
			return &wire.Lost{Err: err}
		}
		again := make([]byte, back)
		if _, err := io.ReadFull(body, again); err != nil {
			return &wire.Lost{Err: err}
		}
		if !bytes.Equal(again, f.tail[:back]) {
			return wire.ErrChanged
		}
		if err := f.pass(want, io.LimitReader(body, want.To-want.From), min(want.To, to)); err != nil {
			return err
		}
		at = want.From
	}
	return nil
}

// several passes on an answer of several ranges (RFC 9110, section 14.6).
func (f *fetch) several(a *answer, parts *multipart.Reader) error {
	for useless := 0; !f.done(); {
		passed := f.passed
		part, err := parts.NextRawPart()
		if err == io.EOF { // the server left some out
			f.single.Store(true)
			return errOneByOne
		}
		if err != nil {
			return &wire.Lost{Err: err}
		}
		h := http.Header(part.Header)
		for _, name := range []string{"ETag", "Last-Modified"} {
			if v := a.Header.Get(name); v != "" {
				h.Set(name, v)
			}
		}
		if err := f.piece(h, part, wire.Unknown); err != nil {
			return err
		}
		if f.passed == passed {
			if useless++; useless > mostUseless {
				return &wire.Lost{Err: errors.New("it sends one part after the other that was not asked for")}
			}
		}
	}
	return nil
}

// mostUseless bounds the parts of an answer that nobody asked for.
const mostUseless = 16

// pass passes on bytes of a range, up to a place in it; wire.Unknown: to their end.
func (f *fetch) pass(want *wire.Range, body io.Reader, to int64) error {
	for want.From != to {
		n, err := body.Read(f.buffer)
		if n > 0 {
			if err := f.deliver(want, f.buffer[:n]); err != nil {
				return err
			}
		}
		switch {
		case err == io.EOF && to == wire.Unknown:
			return nil
		case err == io.EOF && want.From < to:
			return &wire.Lost{Err: io.ErrUnexpectedEOF}
		case err != nil && err != io.EOF:
			return &wire.Lost{Err: err}
		}
	}
	return nil
}

func (f *fetch) deliver(want *wire.Range, p []byte) error {
	at := want.From
	want.From += int64(len(p))
	f.passed += int64(len(p))
	switch {
	case !f.Ranges:
		f.sum.Write(p) // never fails
	case f.validator() == "":
		if at != f.tailTo {
			f.tail = f.tail[:0]
		}
		f.tail = append(f.tail, p...)
		f.tail, f.tailTo = f.tail[max(0, len(f.tail)-overlap):], want.From
	}
	return f.take(at, p)
}

// whole passes on an answer that has all of it. What was passed on before a break
// comes again, and must be the same.
func (f *fetch) whole(a *answer, body io.Reader) error {
	if a.StatusCode == http.StatusRequestedRangeNotSatisfiable {
		f.ended = true // there is not one byte
		return nil
	}
	if a.StatusCode != http.StatusOK {
		return &wire.Lost{Err: fmt.Errorf("it answered %s where it was asked for the whole", a.Status)}
	}
	if err := f.changed(a.Header, a.ContentLength); err != nil {
		return err
	}
	var again maphash.Hash
	again.SetSeed(f.sum.Seed())
	if _, err := io.CopyN(&again, body, f.passed); err != nil {
		return &wire.Lost{Err: err}
	}
	if again.Sum64() != f.sum.Sum64() {
		return wire.ErrChanged
	}
	err := f.pass(&f.left[0], body, f.left[0].To)
	f.ended = err == nil
	return err
}
