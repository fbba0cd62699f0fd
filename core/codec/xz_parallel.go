package codec

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"widecrate/core/codec/lzma"
	"widecrate/core/fault"
)

// The blocks of a file of xz streams can be decoded in parallel: the footers and
// indexes at the ends of the streams tell where each starts (The .xz File Format,
// sections 2.1.2 and 4).

// xzExtent is one block of a file.
type xzExtent struct {
	start int64
	xzRecord
	check byte
}

// largestParallel bounds what a block may hold, for each is decoded into memory,
// and largestIndex the bytes of all indexes of a file.
const (
	largestParallel = 32 << 20
	mostAhead       = 8         // at once
	mostHeld        = 128 << 20 // bytes of blocks that come in order, after which no more are begun
	mostBlocks      = 1 << 20   // of a file, listed beforehand
	largestIndex    = 16 << 20  // that many blocks have no larger ones
)

var errNotParallel = errors.New("not several blocks of a moderate size")

// decodeBlocks decodes a file of several blocks on several goroutines. It fails
// with errNotParallel where one after the other is the way, be it because the file
// is damaged.
func decodeBlocks(r io.ReaderAt, size int64, o Options, workers int) (io.ReadCloser, error) {
	blocks, err := xzBlocks(r, size)
	if err != nil || len(blocks) < 2 {
		return nil, errNotParallel
	}
	for _, b := range blocks {
		if b.size > largestParallel {
			return nil, errNotParallel
		}
	}
	p := &parallel{results: make(chan chan decodedBlock, workers), done: make(chan struct{})}
	p.running.Add(1)
	go p.run(r, blocks, o)
	return p, nil
}

// xzBlocks finds the blocks of all streams, from the end of the file to its start.
func xzBlocks(r io.ReaderAt, size int64) ([]xzExtent, error) {
	var all []xzExtent // the last stream first, and in it the last block
	indexes := int64(0)
	for end := size; end > 0; {
		var footer, header [xzEnds]byte
		if end < 2*xzEnds {
			return nil, errNotParallel
		}
		if _, err := r.ReadAt(footer[:], end-xzEnds); err != nil {
			return nil, err
		}
		if binary.LittleEndian.Uint32(footer[8:]) == 0 { // stream padding
			var err error
			if end, err = beforeZeros(r, end); err != nil {
				return nil, err
			}
			continue
		}
		index, err := parseXZFooter(footer[:], footer[9])
		if indexes += index; err != nil || index > end-2*xzEnds || indexes > largestIndex {
			return nil, errNotParallel
		}
		raw := make([]byte, index)
		if _, err := r.ReadAt(raw, end-xzEnds-index); err != nil {
			return nil, err
		}
		blocks, packed, err := parseXZIndex(raw, footer[9], end-2*xzEnds-index)
		start := end - xzEnds - index - packed - xzEnds
		if err != nil || start < 0 {
			return nil, errNotParallel
		}
		if _, err := r.ReadAt(header[:], start); err != nil {
			return nil, err
		}
		if check, err := parseXZStreamHeader(header[:]); err != nil || check != footer[9] {
			return nil, errNotParallel
		}
		for _, b := range slices.Backward(blocks) {
			b.start += start + xzEnds
			all = append(all, b)
		}
		if len(all) > mostBlocks {
			return nil, errNotParallel
		}
		end = start
	}
	slices.Reverse(all)
	return all, nil
}

// beforeZeros leaves zeros in front of a place out, four at a time (2.2).
func beforeZeros(r io.ReaderAt, end int64) (int64, error) {
	var block [64 << 10]byte
	for end > 0 {
		b := block[:min(int64(len(block)), (end+3)&^3)]
		if n, err := r.ReadAt(b, end-int64(len(b))); n < len(b) {
			return 0, cutOff(err)
		}
		rest := len(bytes.TrimRight(b, "\x00"))
		zeros := (len(b) - rest) &^ 3
		if end -= int64(zeros); zeros < len(b) {
			break
		}
	}
	return end, nil
}

// parseXZIndex returns the blocks of an index, with their starts in the stream
// after its header, and how much all of them take: not more than there is room for.
func parseXZIndex(raw []byte, check byte, room int64) (blocks []xzExtent, packed int64, err error) {
	var src Bytes
	src.Reset(raw[1:])
	if raw[0] != 0 {
		return nil, 0, errNotParallel
	}
	length, err := readXZIndex(&src, func(b xzRecord) error {
		blocks = append(blocks, xzExtent{packed, b, check})
		if packed += b.padded(); packed > room || packed < 0 || len(blocks) > mostBlocks {
			return errNotParallel
		}
		return nil
	})
	if err == nil && length != int64(len(raw)) {
		err = errNotParallel
	}
	return blocks, packed, err
}

// parallel hands out decoded blocks in their order.
type parallel struct {
	results chan chan decodedBlock
	current []byte
	err     error
	done    chan struct{}
	running sync.WaitGroup
	idle    sync.Pool // of *lzma.Reader2
	closed  sync.Once
}

type decodedBlock struct {
	data []byte
	held int64 // of the block, where that is counted
	err  error
}

// run starts a goroutine for each block; the channel of results holds back those
// that are too far ahead.
func (p *parallel) run(r io.ReaderAt, blocks []xzExtent, o Options) {
	defer p.running.Done()
	defer close(p.results)
	for _, b := range blocks {
		result := make(chan decodedBlock, 1)
		select {
		case p.results <- result:
		case <-p.done:
			return
		}
		p.running.Go(func() {
			decoder, ok := p.idle.Get().(*lzma.Reader2)
			if !ok {
				decoder = &lzma.Reader2{}
			}
			in := bufio.NewReaderSize(io.NewSectionReader(r, b.start, b.padded()), 64<<10)
			var data []byte
			err := fault.Guard(func() error {
				header, err := readXZBlockHeader(in)
				if err == nil {
					data, err = decodeBlock(header, in, b, o, decoder)
				}
				if err != nil && !fault.Known(err) {
					err = fmt.Errorf("the block at offset %d: %w", b.start, err)
				}
				return err
			})
			p.idle.Put(decoder)
			result <- decodedBlock{data, 0, cutOff(err)}
		})
	}
}

// decodeBlock decodes what follows the header of a block, which has to be what is said of it.
func decodeBlock(header xzBlockHeader, in Source, b xzExtent, o Options, decoder *lzma.Reader2) ([]byte, error) {
	d, err := newXZBlock(header, in, b.check, o, decoder)
	if err != nil {
		return nil, cutOff(err)
	}
	data := make([]byte, b.size)
	n, err := io.ReadFull(d, data)
	data = data[:n] // what is right of a block that is damaged
	if err == nil {
		var behind [1]byte
		if _, err = io.ReadFull(d, behind[:]); err == io.EOF { // sizes are claims
			err = nil
		} else if err == nil {
			err = errXZIndex
		}
	}
	if err == nil && d.record() != b.xzRecord {
		err = errXZIndex
	}
	return data, cutOff(err)
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

// Close waits until nothing reads from the file any more.
func (p *parallel) Close() error {
	p.closed.Do(func() { close(p.done) })
	p.running.Wait()
	return nil
}
