package codec

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"runtime"
	"sync"

	"widecrate/core/codec/lzma"
	"widecrate/core/fault"
)

// xzReader reads streams (The .xz File Format, section 2) one after the other. Blocks whose
// headers say their sizes are decoded ahead, several at once.
type xzReader struct {
	src Source
	o   Options

	check  byte
	blocks int64 // of this stream, so far
	sizes  hash.Hash

	current []byte              // of a block that was decoded, what was not read
	ahead   []chan decodedBlock // those that come after it, in their order
	held    int64               // bytes of those, decoded and packed
	idle    sync.Pool           // of *lzma.Reader2
	block   *xzBlock            // that comes after all of those, and is decoded as it is read
	decoder lzma.Reader2        // of such blocks
	after   error               // what comes after that; nil: it is not known
	err     error
}

// begin reads the header of a stream.
func (r *xzReader) begin() (err error) {
	var b [xzEnds]byte
	if _, err := io.ReadFull(r.src, b[:]); err != nil {
		return err
	}
	r.check, err = parseXZStreamHeader(b[:])
	r.blocks, r.sizes = 0, nil
	return err
}

func (r *xzReader) Read(p []byte) (n int, err error) {
	for n == 0 && r.err == nil && len(p) > 0 {
		switch {
		case len(r.current) > 0:
			n = copy(p, r.current)
			r.current = r.current[n:]
		case r.block == nil && r.after == nil && len(r.ahead) < xzAhead() && r.held < mostHeld:
			r.after = r.next()
		case len(r.ahead) > 0:
			got := <-r.ahead[0]
			r.ahead = r.ahead[1:]
			r.held -= got.held
			if r.current = got.data; got.err != nil {
				r.ahead, r.block, r.after = nil, nil, got.err
			}
		case r.block != nil:
			if n, err = r.block.Read(p); err == io.EOF {
				err = nil
				r.note(r.block.record())
				r.block = nil
			}
			r.err = cutOff(ofBlock(r.blocks+1, err))
		default:
			r.err = cutOffUnlessDone(r.after)
		}
	}
	if n > 0 {
		return n, nil
	}
	return 0, r.err
}

// xzAhead is how many blocks are decoded at once: each takes the memory of what is in it.
func xzAhead() int { return min(runtime.GOMAXPROCS(0), mostAhead) }

// startBlock begins with the block that comes next.
func (r *xzReader) startBlock() error {
	header, err := readXZBlockHeader(r.src)
	if err != nil {
		return err
	}
	if header.packed < 0 || header.packed > largestParallel || header.size < 0 || header.size > largestParallel {
		r.block, err = newXZBlock(header, r.src, r.check, r.o, &r.decoder)
		return err
	}
	b := xzExtent{0, xzRecord{header.length + header.packed + xzChecks[r.check].size, header.size}, r.check}
	var raw bytes.Buffer // the buffer grows with what there is: the sizes are claims
	if _, err := io.CopyN(&raw, r.src, b.padded()-header.length); err != nil {
		return err
	}
	r.note(b.xzRecord)
	held := header.size + int64(raw.Len())
	r.held += held
	number := r.blocks
	result := make(chan decodedBlock, 1)
	r.ahead = append(r.ahead, result)
	go func() {
		decoder, ok := r.idle.Get().(*lzma.Reader2)
		if !ok {
			decoder = &lzma.Reader2{}
		}
		var src Bytes
		src.Reset(raw.Bytes())
		var data []byte
		err := fault.Guard(func() (err error) {
			data, err = decodeBlock(header, &src, b, r.o, decoder)
			return err
		})
		r.idle.Put(decoder)
		result <- decodedBlock{data, held, ofBlock(number, err)}
	}()
	return nil
}

// ofBlock says in which block of a stream the data makes no sense.
func ofBlock(number int64, err error) error {
	if err == nil || err == io.EOF || fault.CutOff(err) || fault.Known(err) {
		return err
	}
	return fmt.Errorf("block %d: %w", number, err)
}

// errDone stands for an end that is where it should be.
var errDone = errors.New("done")

func cutOffUnlessDone(err error) error {
	if err == errDone {
		return io.EOF
	}
	return cutOff(err)
}

// next goes on to the next block, of this stream or of one after it. After the
// last stream it returns errDone.
func (r *xzReader) next() error {
	first, err := r.src.Peek(1)
	if err != nil {
		return err
	}
	if first[0] != 0 {
		return r.startBlock()
	}
	if _, err := r.src.ReadByte(); err != nil {
		return err
	}
	if err := r.end(); err != nil {
		return err
	}
	// Streams may be followed by zeros, four at a time (2.2).
	for {
		head, err := r.src.Peek(xzEnds)
		zeros := (len(head) - len(bytes.TrimLeft(head, "\x00"))) &^ 3
		switch {
		case err == io.EOF && len(head) == 0:
			return errDone
		case zeros == 0 && len(head) >= 4:
			return r.begin()
		case zeros == 0 && err != nil:
			return err
		}
		if _, err := r.src.Discard(zeros); err != nil {
			return err
		}
	}
}

// note keeps the sizes of a block, summed up with those of all before it.
func (r *xzReader) note(b xzRecord) {
	if r.sizes == nil {
		r.sizes = sha256.New()
	}
	r.blocks++
	addSizes(r.sizes, b)
}

func addSizes(sum hash.Hash, b xzRecord) {
	var sizes [16]byte
	binary.LittleEndian.PutUint64(sizes[:], uint64(b.unpadded))
	binary.LittleEndian.PutUint64(sizes[8:], uint64(b.size))
	sum.Write(sizes[:])
}

// end reads index and footer of a stream, and compares them with its blocks.
func (r *xzReader) end() error {
	var listed hash.Hash
	count := int64(0)
	length, err := readXZIndex(r.src, func(b xzRecord) error {
		if listed == nil {
			listed = sha256.New()
		}
		addSizes(listed, b)
		if count++; count > r.blocks {
			return errXZIndex
		}
		return nil
	})
	if err != nil {
		return err
	}
	if count != r.blocks || count > 0 && !bytes.Equal(listed.Sum(nil), r.sizes.Sum(nil)) {
		return errXZIndex
	}
	var b [xzEnds]byte
	if _, err := io.ReadFull(r.src, b[:]); err != nil {
		return err
	}
	said, err := parseXZFooter(b[:], r.check)
	if err == nil && said != length {
		err = errors.New("the footer of a stream contradicts its index")
	}
	return err
}

var errXZIndex = errors.New("the index of a stream contradicts its blocks")

// xzBlock reads one block (section 3) and checks it.
type xzBlock struct {
	header xzBlockHeader
	in     *xzInput
	data   io.Reader
	check  xzCheck
	sum    hash.Hash
	size   int64
}

// xzInput counts the packed data of a block.
type xzInput struct {
	src  Source
	read int64
}

func (in *xzInput) Read(p []byte) (int, error) {
	n, err := in.src.Read(p)
	in.read += int64(n)
	return n, err
}

func (in *xzInput) ReadByte() (byte, error) {
	c, err := in.src.ReadByte()
	if err == nil {
		in.read++
	}
	return c, err
}

// newXZBlock starts to read what follows the header of a block. Its dictionary has to be within
// the bounds.
func newXZBlock(header xzBlockHeader, src Source, check byte, o Options, decoder *lzma.Reader2) (*xzBlock, error) {
	memory, err := header.memory()
	if err != nil {
		return nil, err
	}
	if err := o.check(memory); err != nil {
		return nil, err
	}
	if header.size >= 0 { // no more than that can be referred to
		memory = min(memory, header.size)
	}
	b := &xzBlock{header: header, in: &xzInput{src: src}, check: xzChecks[check], sum: xzChecks[check].new()}
	decoder.Reset(b.in, memory)
	b.data, err = header.unfilter(decoder)
	return b, err
}

func (b *xzBlock) Read(p []byte) (int, error) {
	n, err := b.data.Read(p)
	b.sum.Write(p[:n])
	b.size += int64(n)
	if err == io.EOF {
		if err = b.end(); err == nil {
			err = io.EOF
		}
	} else if err == nil && b.header.size >= 0 && b.size > b.header.size {
		err = errors.New("a block is longer than its header says")
	}
	return n, err
}

// end checks a block whose data was read.
func (b *xzBlock) end() error {
	if b.header.packed >= 0 && b.header.packed != b.in.read || b.header.size >= 0 && b.header.size != b.size {
		return errors.New("a block is not as long as its header says")
	}
	tail := make([]byte, -b.in.read&3+b.check.size)
	if _, err := io.ReadFull(b.in.src, tail); err != nil {
		return cutOff(err)
	}
	padding, want := tail[:int64(len(tail))-b.check.size], tail[int64(len(tail))-b.check.size:]
	for _, c := range padding {
		if c != 0 {
			return errXZPadding
		}
	}
	if sum := b.sum.Sum(nil); !bytes.Equal(sum, want) {
		return fmt.Errorf("a block has the sum %x where its end says %x", sum, want)
	}
	return nil
}

// record is what an index should say of the block.
func (b *xzBlock) record() xzRecord {
	return xzRecord{b.header.length + b.in.read + b.check.size, b.size}
}
