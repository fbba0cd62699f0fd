package bzip2

import (
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"sync/atomic"

	"widecrate/core/fault"
)

// A Reader decodes streams, one behind the other, up to the end of its source. It reads ahead
// on goroutines of its own, which Close ends.
type Reader struct {
	blocks chan *job
	done   chan struct{}
	closed sync.Once
	group  sync.WaitGroup

	current []byte // of a block, what was not read
	last    *job   // that it is of
	level   int    // of the stream; 0: one has to start
	sum     uint32 // of its blocks, so far
	streams int
	number  int   // of the block, in all
	cut     error // what comes after the last block
	err     error

	waiting []*job       // that were taken, and come next
	false   atomic.Int32 // magic numbers in the middle of blocks, so far
}

// idle has blocks that nobody decodes with.
var idle = sync.Pool{New: func() any { return &block{} }}

// piece is what lies between a magic number and the next one.
type piece struct {
	data []byte // with padding
	bit  int    // at which it starts
	bits int    // how many it has
	at   int64  // of data, in the source
	end  bool   // the piece ends a stream, up to the first block of the next one
	last bool   // nothing follows
}

// job is a piece with what comes of it.
type job struct {
	piece
	block *block
	out   []byte
	used  int  // the bit at which it ended
	over  bool // the block wanted more than there was
	size  int
	sum   uint32
	err   error
	ready chan struct{}
	later bool // the piece is decoded when the block before has ended there
}

const (
	readSize  = 256 << 10
	mostBits  = 8 * (largest*longestCode/8 + 64<<10) // of a block, and more than any has
	mostCores = 8                                    // a block takes up to 50 MB
	mostFalse = 16                                   // magic numbers that start nothing, after which none is believed beforehand
	headBits  = 32                                   // of a stream: BZh and the level
)

// NewReader reads streams from a source.
func NewReader(src io.Reader) *Reader { return newReader(src, find) }

// finder finds the next magic number; see find.
type finder func(data []byte, from int) (bit int, end bool)

func newReader(src io.Reader, find finder) *Reader {
	workers := min(runtime.GOMAXPROCS(0), mostCores)
	r := &Reader{blocks: make(chan *job, workers), done: make(chan struct{})}
	r.group.Add(1)
	go r.split(src, find)
	return r
}

// split cuts the source into pieces, and has them decoded.
func (r *Reader) split(src io.Reader, find finder) {
	defer r.group.Done()
	defer close(r.blocks)
	if err := fault.Guard(func() error { r.pieces(src, find); return nil }); err != nil {
		r.give(&job{err: err})
	}
}

// pieces is what split does.
func (r *Reader) pieces(src io.Reader, find finder) {
	var held []byte // of the source, from the byte in which the current piece starts
	at := int64(0)  // of held, in the source
	start, end := 0, true
	from := headBits // bits that were not looked at yet
	for {
		next, isEnd := find(held, from)
		if next < 0 {
			from = max(from, 8*(len(held)-7))
			if len(held)*8-start > mostBits+8*readSize {
				r.give(&job{piece: piece{at: at}, err: corrupt("no block starts within the size of one")})
				return
			}
			n := len(held)
			held = append(held, make([]byte, readSize)...)
			got, err := io.ReadFull(src, held[n:])
			held = held[:n+got]
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				if got > 0 {
					continue
				}
				r.give(newJob(held, start, len(held)*8, at, end, true))
				return
			}
			if err != nil {
				r.give(&job{err: err})
				return
			}
			continue
		}
		if !r.give(newJob(held, start, next, at, end, false)) {
			return
		}
		at += int64(next / 8)
		held = held[next/8:]
		start, end = next%8, isEnd
		from = start + magicBits
		if end {
			from += headBits // the checksum of all
		}
	}
}

func newJob(held []byte, start, end int, at int64, isEnd, last bool) *job {
	data := make([]byte, (end+7)/8+padding)
	copy(data, held[:(end+7)/8])
	return &job{piece: piece{data, start, end - start, at, isEnd, last}}
}

// give has a piece decoded. It reports false when nobody wants it any more.
func (r *Reader) give(j *job) bool {
	j.ready = make(chan struct{})
	select {
	case r.blocks <- j:
	case <-r.done:
		return false
	}
	if j.later = r.false.Load() > mostFalse; j.end || j.err != nil || j.later {
		close(j.ready)
		return true
	}
	r.group.Go(func() {
		defer close(j.ready)
		r.decode(j)
	})
	return true
}

// take takes the next piece; nil: there is none.
func (r *Reader) take() *job {
	if len(r.waiting) > 0 {
		j := r.waiting[0]
		r.waiting = r.waiting[1:]
		return j
	}
	j, more := <-r.blocks
	if !more {
		return nil
	}
	<-j.ready
	return j
}

func (r *Reader) decode(j *job) {
	if j.block == nil {
		j.block = idle.Get().(*block)
	}
	defer fault.Catch(&j.err)
	j.out, j.used, j.sum, j.err = j.block.decode(j.data, j.bit)
	j.size, j.over = j.block.size, j.block.used() > j.bit+j.bits
}

// Read reads what the streams hold.
func (r *Reader) Read(p []byte) (int, error) {
	for len(r.current) == 0 && r.err == nil {
		r.letGo()
		r.err = r.next()
	}
	if len(r.current) == 0 {
		return 0, r.err
	}
	n := copy(p, r.current)
	r.current = r.current[n:]
	return n, nil
}

// letGo gives back what the last block was decoded with.
func (r *Reader) letGo() {
	if r.last != nil {
		idle.Put(r.last.block)
		r.last = nil
	}
}

// next takes the next piece.
func (r *Reader) next() error {
	if r.cut != nil {
		return r.cut
	}
	j := r.take()
	if j == nil {
		return io.EOF
	}
	if j.later && !j.end && j.err == nil {
		r.decode(j)
	}
	if j.over {
		if r.extend(j); j.over && j.last {
			j.err = errCut
		}
	}
	if j.err == nil && !j.end && j.used < j.bit+j.bits && !j.last {
		j.err = corrupt("what follows a block is neither another nor an end")
	}
	if j.err != nil {
		return r.at(j, j.err)
	}
	if j.end {
		return r.at(j, r.stream(j))
	}
	if r.level == 0 {
		return r.at(j, corrupt("a block stands outside of a stream"))
	}
	r.number++
	r.sum = r.sum<<1 | r.sum>>31
	r.sum ^= j.sum
	if j.size > r.level*unit {
		return r.at(j, corrupt("a block is larger than its stream allows"))
	}
	if j.last {
		r.cut = r.at(j, errCut)
	}
	r.current, r.last = j.out, j
	return nil
}

// extend decodes a block again, with pieces behind it: a magic number in the middle of a block
// is no start. Each time it takes as much again, so that many of them cost no more than twice
// the block; those that turn out to come after its end have their turn then.
func (r *Reader) extend(j *job) {
	var behind []*job
	var starts []int // of those, as bits of the data
	for j.over && !j.last && j.bits <= mostBits {
		for wanted := 2 * j.bits; j.bits < wanted && !j.last; {
			next := r.take()
			if next == nil || next.data == nil {
				if next != nil {
					r.waiting = append([]*job{next}, r.waiting...)
				}
				if r.decode(j); j.over && next != nil {
					j.err = next.err
				}
				return
			}
			behind, starts = append(behind, next), append(starts, (j.bit+j.bits)/8*8+next.bit)
			j.data = append(j.data[:(j.bit+j.bits)/8:(j.bit+j.bits)/8], next.data...)
			j.bits, j.last = j.bits+next.bits, next.last
		}
		r.decode(j)
	}
	for k, start := range starts {
		if start == j.used && j.err == nil {
			j.bits, j.last = start-j.bit, false
			r.waiting = append(behind[k:], r.waiting...)
			behind = behind[:k]
			break
		}
	}
	r.false.Add(int32(len(behind))) //nolint:gosec // as many as there is data for
}

// at says where an error is.
func (r *Reader) at(j *job, err error) error {
	if err == nil || err == io.EOF {
		return err
	}
	if errors.Is(err, errCut) {
		return fmt.Errorf("block %d, at offset %d: %w", r.number+1, j.at, io.ErrUnexpectedEOF)
	}
	return fmt.Errorf("block %d, at offset %d: %w", r.number+1, j.at, err)
}

// stream takes what ends a stream and starts the next: the checksum of all blocks, bits up to a
// whole byte, and the header.
func (r *Reader) stream(j *job) error {
	bits := j.bit
	if r.level > 0 {
		bits += magicBits
		if j.bits < magicBits+32 {
			return errCut
		}
		var b block
		b.in, b.end, b.at = j.data, len(j.data)-padding, bits/8
		b.bits(bits % 8)
		if sum := b.bits(32); sum != r.sum {
			return corrupt("a stream has the checksum %08x where its end says %08x", r.sum, sum)
		}
		bits += 32
		r.level, r.sum = 0, 0
	}
	if (bits+7)/8 > (j.bit+j.bits)/8 {
		return corrupt("no stream starts where one should")
	}
	head := j.data[(bits+7)/8 : (j.bit+j.bits)/8]
	switch {
	case len(head) == 0 && j.last && r.streams > 0:
		return io.EOF
	case len(head) < 4 && j.last:
		return errCut
	case len(head) != 4 && !(j.last && len(head) > 4), string(head[:3]) != "BZh", head[3] < '1' || head[3] > '9':
		return corrupt("no stream starts where one should")
	case j.last:
		return errCut
	case (j.bit+j.bits)%8 != 0:
		return corrupt("no block starts where one should")
	}
	r.level = int(head[3] - '0')
	r.streams++
	return nil
}

// Close ends the goroutines. Nothing may be read after it.
func (r *Reader) Close() error {
	r.closed.Do(func() { close(r.done) })
	for range r.blocks {
	}
	r.group.Wait()
	r.current, r.err = nil, errors.New("the reader is closed")
	return nil
}
