package codec

import (
	"bytes"
	"errors"
	"io"
	"runtime"
	"sync"
	"sync/atomic"

	"widecrate/core/fault"
)

// Level is how hard an encoder tries: from 1, the fastest, to 9, the smallest.
// Level 0 only wraps the data where the method can. Encoders with fewer levels
// of their own round.
type Level int8

// The levels that have names.
const (
	Fast   Level = 1
	Normal Level = 6
	Best   Level = 9
)

// LevelNames are the words for levels.
var LevelNames = map[string]Level{"fast": Fast, "normal": Normal, "best": Best}

// EncodeOptions shape what an encoder makes. What comes out depends on the level
// and the data alone, not on the number of workers.
type EncodeOptions struct {
	Level   Level // Normal, unless Set
	Set     bool
	Workers int // goroutines for one stream; 0: one for each processor
}

// At returns options with a level.
func At(level Level) EncodeOptions { return EncodeOptions{Level: level, Set: true} }

func (o EncodeOptions) level() Level {
	if !o.Set {
		return Normal
	}
	return min(max(o.Level, 0), Best)
}

func (o EncodeOptions) workers() int {
	if o.Workers > 0 {
		return o.Workers
	}
	return runtime.GOMAXPROCS(0)
}

// Abort ends an encoder whose output nobody wants any more. Afterwards its
// goroutines have ended, and nothing more is written.
func Abort(enc io.WriteCloser) {
	if a, ok := enc.(interface{ Abort() }); ok {
		a.Abort()
		return
	}
	_ = enc.Close() // which waits for them as well
}

// encodeWhole compresses a block as a stream of its own.
func encodeWhole(block []byte, start func(io.Writer) (io.WriteCloser, error)) ([]byte, error) {
	var out bytes.Buffer
	w, err := start(&out)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(block); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// blocks compresses a stream in blocks, several at a time, and writes them in
// their order.
type blocks struct {
	dst     io.Writer
	kind    *blockKind
	encode  blockEncoder
	workers int

	block    *buffer // being filled, after the history; nil: there was nothing yet
	before   int     // bytes of history in block
	queue    chan chan encoded
	done     chan error // of the goroutine that writes
	err      error
	closed   bool
	unwanted atomic.Bool
}

// blockEncoder compresses one block, data[start:], and appends it to out. Before start
// stands what is in front of it, for methods that refer back; last says that the stream
// ends with it.
type blockEncoder func(out, data []byte, start int, last bool) ([]byte, error)

// blockKind says how a stream is cut. The buffers of its blocks, and of what they become,
// go round: new memory for each takes longer than compressing fast does.
type blockKind struct {
	size    int // of a block
	history int // how much of what is in front of a block its encoder gets
	spare   sync.Pool
}

type buffer struct{ data []byte }

func (k *blockKind) buffer() *buffer {
	if b, ok := k.spare.Get().(*buffer); ok {
		b.data = b.data[:0]
		return b
	}
	return &buffer{}
}

type encoded struct {
	*buffer
	err error
}

// newBlocks makes an encoder of a method of which blocks can be compressed each
// by itself.
func newBlocks(dst io.Writer, kind *blockKind, o EncodeOptions, encode blockEncoder) *blocks {
	return &blocks{dst: dst, kind: kind, encode: encode, workers: o.workers()}
}

func (b *blocks) Write(p []byte) (int, error) {
	written := 0
	for len(p) > 0 && b.err == nil {
		if b.block == nil {
			b.block = b.kind.buffer()
		}
		// A full block is handed on when more follows: the last one is marked.
		room := b.kind.size - (len(b.block.data) - b.before)
		if room == 0 {
			b.hand(false)
			continue
		}
		n := min(len(p), room)
		b.block.data = append(b.block.data, p[:n]...)
		p, written = p[n:], written+n
	}
	return written, b.err
}

// hand gives the block to a goroutine.
func (b *blocks) hand(last bool) {
	block, before := b.block, b.before
	b.block, b.before = nil, 0
	if block == nil {
		block = b.kind.buffer()
	}
	if !last && b.kind.history > 0 {
		b.block = b.kind.buffer()
		b.block.data = append(b.block.data, block.data[max(0, len(block.data)-b.kind.history):]...)
		b.before = len(b.block.data)
	}
	if b.queue == nil {
		if last || b.workers == 1 {
			b.err = b.put(b.pack(block, before, last))
			return
		}
		b.start()
	}
	result := make(chan encoded, 1)
	select {
	case b.queue <- result:
	case b.err = <-b.done:
		b.done <- b.err
		return
	}
	go func() { result <- b.pack(block, before, last) }()
}

// pack compresses a block.
func (b *blocks) pack(block *buffer, before int, last bool) encoded {
	e := encoded{buffer: b.kind.buffer()}
	e.err = fault.Guard(func() (err error) {
		e.data, err = b.encode(e.data, block.data, before, last)
		return err
	})
	b.kind.spare.Put(block)
	return e
}

// put writes a block.
func (b *blocks) put(e encoded) error {
	if e.err == nil {
		_, e.err = b.dst.Write(e.data)
	}
	b.kind.spare.Put(e.buffer)
	return e.err
}

// start begins to write what the goroutines make, as it gets ready.
func (b *blocks) start() {
	b.queue, b.done = make(chan chan encoded, b.workers-1), make(chan error, 1)
	go func() {
		for result := range b.queue {
			r := <-result
			if b.unwanted.Load() {
				r.err = errAborted
			}
			if err := b.put(r); err != nil {
				b.done <- err
				return
			}
		}
		b.done <- nil
	}()
}

var errAborted = errors.New("the encoder was aborted")

// Abort ends it without compressing what is left.
func (b *blocks) Abort() {
	if b.closed {
		return
	}
	b.closed, b.block = true, nil
	b.unwanted.Store(true)
	if b.err == nil {
		b.err = errAborted
	}
	if b.queue != nil {
		close(b.queue)
		<-b.done
	}
}

// Close compresses what is left and waits until all is written.
func (b *blocks) Close() error {
	if b.closed {
		return b.err
	}
	b.closed = true
	if b.err == nil {
		b.hand(true)
	}
	b.block = nil
	if b.queue != nil {
		close(b.queue)
		if err := <-b.done; b.err == nil {
			b.err = err
		}
	}
	return b.err
}
