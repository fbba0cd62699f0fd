package lone

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"

	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// decoded is a decompressed file, read ahead on a goroutine of its own. Errors
// of the decoder are damage, unless the disk failed.
type decoded struct {
	meter   func(bytes int64) error // nil: nobody counts
	ahead   io.ReadCloser
	decoder io.ReadCloser
	places  *places // nil: several pieces are decoded at once
	read    int64
	summed  bool
}

func decode(m codec.Method, r io.ReaderAt, size int64, o archive.Options) (*decoded, error) {
	var start [head]byte
	n, err := r.ReadAt(start[:], 0)
	if err != nil && err != io.EOF {
		return nil, fault.Reading("", err)
	}
	summed := m.Summed != nil && m.Summed(start[:n])
	limits := codec.Options{MaxMemory: o.MaxMemory, Dictionary: o.Dictionary}
	if m.DecodeFile != nil && size != blob.Endless {
		if d, err := m.DecodeFile(r, size, limits); err == nil {
			return &decoded{meter: o.Decoded, ahead: d, decoder: d, summed: summed}, nil
		}
	}
	f := &file{r: io.NewSectionReader(r, 0, size)}
	in := bufio.NewReaderSize(f, 256<<10)
	d, err := m.Decode(in, limits)
	if err != nil {
		return nil, broken(err, 0)
	}
	places := &places{r: d, file: f}
	if !m.ReadsAhead {
		places.buffer = in
	}
	ahead, err := readahead.NewReaderSize(fault.Guarded(places), 4, 512<<10)
	if err != nil {
		return nil, err
	}
	return &decoded{meter: o.Decoded, ahead: ahead, decoder: d, places: places, summed: summed}, nil
}

func (d *decoded) Read(p []byte) (int, error) {
	n, err := d.ahead.Read(p)
	d.read += int64(n)
	if d.meter != nil {
		if over := d.meter(int64(n)); over != nil {
			return 0, over
		}
	}
	if err != nil && err != io.EOF {
		err = broken(err, d.place())
	}
	return n, err
}

// place is where in the compressed data stands what was read last, or a little
// further.
func (d *decoded) place() int64 {
	if d.places == nil {
		return 0
	}
	return d.places.of(d.read)
}

// Summed reports whether all of it is checked at its end; see archive.Summed.
func (d *decoded) Summed() bool { return d.summed }

func (d *decoded) Close() error {
	d.ahead.Close()
	return d.decoder.Close()
}

// Remarks say what followed the data, once all of it was read.
func (d *decoded) Remarks() []archive.Remark {
	if p, ok := d.decoder.(interface{ Padding() int64 }); ok && p.Padding() > 0 {
		return []archive.Remark{{Text: fmt.Sprintf("%d zeros after the compressed data are padding", p.Padding())}}
	}
	return nil
}

func broken(err error, at int64) error {
	if fault.Known(err) {
		return err
	}
	b := &archive.Break{Offset: at, CutOff: err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF), Err: fmt.Errorf("the compressed data is damaged: %w", err)}
	if b.CutOff {
		b.Err = errors.New("the compressed data is cut off")
	}
	return fault.New(fault.Damaged, "%w", b)
}

// places reads from a decoder, and notes how far that has come in the compressed
// data.
type places struct {
	r      io.Reader
	file   *file
	buffer *bufio.Reader // nil: only the decoder may look at it
	mu     sync.Mutex
	known  []place // the latest
}

// place is how much was decoded from so much compressed data.
type place struct{ decoded, packed int64 }

// mostPlaces are enough for what is decoded ahead.
const mostPlaces = 512

func (p *places) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	p.mu.Lock()
	defer p.mu.Unlock()
	now := place{int64(n), p.file.at.Load()}
	if p.buffer != nil {
		now.packed -= int64(p.buffer.Buffered())
	}
	if k := len(p.known); k > 0 {
		now.decoded += p.known[k-1].decoded
	}
	if len(p.known) == mostPlaces {
		p.known = append(p.known[:0], p.known[mostPlaces/2:]...)
	}
	p.known = append(p.known, now)
	return n, err
}

// of returns how much compressed data it took to decode so many bytes; what was
// tried after the last of them, and failed, counts too.
func (p *places) of(decoded int64) int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	at := int64(0)
	for _, known := range p.known {
		at = known.packed
		if known.decoded > decoded {
			break
		}
	}
	return at
}

// file tells a failing disk from damaged data.
type file struct {
	r  io.Reader
	at atomic.Int64
}

func (f *file) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	f.at.Add(int64(n))
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}
