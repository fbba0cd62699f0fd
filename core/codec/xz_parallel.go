package codec

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"sync"

	"github.com/ulikunitz/xz"
)

// A file of several xz streams, one after the other, can be decoded in
// parallel: the footers and indexes at their ends tell where each starts (The
// .xz File Format, sections 2.1.2 and 4).

// extent is one stream of a file.
type extent struct{ start, length, size int64 }

// largestParallel bounds what a stream may hold, for each is decoded into
// memory.
const largestParallel = 32 << 20

var errNotParallel = errors.New("not several streams of a moderate size")

// decodeStreams decodes a file of several streams on several goroutines. It
// fails with errNotParallel where one after the other is the way.
func decodeStreams(r io.ReaderAt, size int64, o Options, workers int) (io.ReadCloser, error) {
	streams, err := xzStreams(r, size)
	if err != nil {
		return nil, errNotParallel
	}
	for _, s := range streams {
		if s.size > largestParallel || len(streams) < 2 {
			return nil, errNotParallel
		}
	}
	p := &parallel{results: make(chan chan decodedStream, workers), done: make(chan struct{})}
	go p.run(r, streams, o)
	return p, nil
}

// xzStreams finds the streams from the end of the file to its start.
func xzStreams(r io.ReaderAt, size int64) ([]extent, error) {
	const header, footer = 12, 12
	var streams []extent
	for end := size; end > 0; {
		var f [footer]byte
		if end < header+footer {
			return nil, errNotParallel
		}
		if _, err := r.ReadAt(f[:], end-footer); err != nil {
			return nil, err
		}
		if binary.LittleEndian.Uint32(f[8:]) == 0 { // stream padding
			end -= 4
			continue
		}
		index := (int64(binary.LittleEndian.Uint32(f[4:])) + 1) * 4
		if f[10] != 'Y' || f[11] != 'Z' || index > end-header-footer || index > 1<<20 {
			return nil, errNotParallel
		}
		raw := make([]byte, index)
		if _, err := r.ReadAt(raw, end-footer-index); err != nil {
			return nil, err
		}
		packed, whole, err := xzIndex(raw)
		if err != nil {
			return nil, err
		}
		start := end - footer - index - packed - header
		var magic [6]byte
		if start < 0 {
			return nil, errNotParallel
		}
		if _, err := r.ReadAt(magic[:], start); err != nil || !bytes.Equal(magic[:], xzMagic) {
			return nil, errNotParallel
		}
		streams = append([]extent{{start, end - start, whole}}, streams...)
		end = start
	}
	return streams, nil
}

// xzIndex sums up the records of an index (section 4.3): the blocks with their
// padding, and what they hold.
func xzIndex(raw []byte) (packed, whole int64, err error) {
	if raw[0] != 0 {
		return 0, 0, errNotParallel
	}
	raw = raw[1:]
	next := func() int64 {
		v, n := binary.Uvarint(raw)
		if n <= 0 || v > 1<<50 {
			err = errNotParallel
			return 0
		}
		raw = raw[n:]
		return int64(v)
	}
	for range next() {
		packed += (next() + 3) &^ 3
		whole += next()
		if err != nil || packed > 1<<50 || whole > 1<<50 {
			return 0, 0, errNotParallel
		}
	}
	return packed, whole, err
}

// parallel hands out decoded streams in their order.
type parallel struct {
	results chan chan decodedStream
	current []byte
	err     error
	done    chan struct{}
	closed  sync.Once
}

type decodedStream struct {
	data []byte
	err  error
}

// run starts a goroutine for each stream; the channel of results holds back
// those that are too far ahead.
func (p *parallel) run(r io.ReaderAt, streams []extent, o Options) {
	defer close(p.results)
	for _, s := range streams {
		result := make(chan decodedStream, 1)
		select {
		case p.results <- result:
		case <-p.done:
			return
		}
		go func() {
			data, err := decodeStream(r, s, o)
			result <- decodedStream{data, err}
		}()
	}
}

func decodeStream(r io.ReaderAt, s extent, o Options) ([]byte, error) {
	in := io.NewSectionReader(r, s.start, s.length)
	var head [12 + 1024]byte
	n, _ := in.ReadAt(head[:], 0)
	if err := o.check(xzDictionary(head[:n])); err != nil {
		return nil, err
	}
	d, err := xz.ReaderConfig{SingleStream: true}.NewReader(in)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	_, err = b.ReadFrom(io.LimitReader(d, s.size+1)) // the index is a claim, too
	if err == nil && int64(b.Len()) != s.size {
		err = errors.New("a stream is not as long as its index says")
	}
	return b.Bytes(), err
}

func (p *parallel) Read(b []byte) (int, error) {
	for len(p.current) == 0 && p.err == nil {
		result, more := <-p.results
		if !more {
			p.err = io.EOF
			break
		}
		got := <-result
		p.current, p.err = got.data, got.err
	}
	if len(p.current) == 0 {
		return 0, p.err
	}
	n := copy(b, p.current)
	p.current = p.current[n:]
	return n, nil
}

func (p *parallel) Close() error {
	p.closed.Do(func() { close(p.done) })
	return nil
}
