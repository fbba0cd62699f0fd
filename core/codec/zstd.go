package codec

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"sync"

	"github.com/dustin/go-humanize"
	"github.com/klauspost/compress/zstd"

	"widecrate/core/fault"
)

// Zstd is the name of the method of RFC 8878; a stream may be several frames,
// some of them to be skipped.
const Zstd = "zstd"

var zstdMethod = Method{
	Name:       Zstd,
	Extensions: []string{".zst"},
	Summed: func(head []byte) bool { // RFC 8878, section 3.1.1.1.1
		rest, _ := skipFrames(head)
		return len(rest) > 4 && rest[4]&4 != 0
	},
	Magic: func(head []byte) bool {
		rest, skipped := skipFrames(head)
		return bytes.HasPrefix(rest, []byte{0x28, 0xb5, 0x2f, 0xfd}) || skipped && !isLZ4(rest)
	},
	Decode: func(src Source, o Options) (io.ReadCloser, error) {
		var d *zstd.Decoder
		var err error
		if o.pooled() {
			d, _ = zstdDecoders.Get().(*zstd.Decoder)
		}
		if d != nil {
			err = d.Reset(src)
		} else {
			limit := uint64(max(o.maxMemory(), zstd.MinWindowSize))
			// One at a time means on this goroutine, where what panics is caught.
			with := []zstd.DOption{zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1 << 62), zstd.WithDecoderMaxWindow(min(limit, largestWindow))}
			if bytes.HasPrefix(o.Dictionary, zstdDictionary) {
				with = append(with, zstd.WithDecoderDicts(o.Dictionary))
			} else if o.Dictionary != nil { // its content is all that counts
				with = append(with, zstd.WithDecoderDictRaw(0, o.Dictionary))
			}
			d, err = zstd.NewReader(src, with...)
		}
		if err != nil {
			return nil, err
		}
		return &zstdReader{d, o}, nil
	},
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		level := zstdLevel(o.level())
		if o.workers() > 1 {
			return zstd.NewWriter(dst, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(o.workers()))
		}
		if e, ok := zstdEncoders[level].Get().(*zstdWriter); ok {
			e.Reset(dst)
			return e, nil
		}
		e, err := zstd.NewWriter(dst, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(1))
		return &zstdWriter{e, level}, err
	},
}

// An encoder has tables of megabytes, far more than a small entry costs: those
// of one goroutine go round, by level.
var zstdEncoders [zstd.SpeedBestCompression + 1]sync.Pool

type zstdWriter struct {
	*zstd.Encoder
	level zstd.EncoderLevel
}

func (w *zstdWriter) Close() error {
	err := w.Encoder.Close()
	if err == nil {
		zstdEncoders[w.level].Put(w)
	}
	return err
}

// zstdLevel is the one of the library's four that is nearest.
func zstdLevel(level Level) zstd.EncoderLevel {
	switch {
	case level <= 2:
		return zstd.SpeedFastest
	case level <= Normal:
		return zstd.SpeedDefault
	case level < Best:
		return zstd.SpeedBetterCompression
	}
	return zstd.SpeedBestCompression
}

// largestWindow is the largest that a frame can ask for (RFC 8878, section 3.1.1.1.2).
const largestWindow = 1<<41 + 7<<38

// Decoders with the usual bound of memory go round as well.
var zstdDecoders sync.Pool

func (o Options) pooled() bool { return o.maxMemory() == DefaultMemory && o.Dictionary == nil }

// zstdDictionary starts a dictionary that has more than content (RFC 8878, section 5).
var zstdDictionary = []byte{0x37, 0xa4, 0x30, 0xec}

// zstdReader tells a window that is too large from damage.
type zstdReader struct {
	d *zstd.Decoder
	o Options
}

func (r *zstdReader) Read(p []byte) (int, error) {
	n, err := r.d.Read(p)
	switch {
	case errors.Is(err, zstd.ErrUnknownDictionary):
		err = r.o.needed()
	case errors.Is(err, zstd.ErrWindowSizeExceeded):
		err = fault.New(fault.Unsafe, "its header asks for more than %s of memory", humanize.IBytes(uint64(r.o.maxMemory()))).Suggest(fault.AllowMemory)
	}
	return n, err
}

// Close gives the decoder back, once, and lets go of the source; what was read
// ahead of it is lost.
func (r *zstdReader) Close() error {
	d := r.d
	r.d = nil
	switch {
	case d == nil:
		return nil
	case !r.o.pooled():
		d.Close()
		return nil
	}
	err := d.Reset(nil)
	if err == nil {
		zstdDecoders.Put(d)
	}
	return err
}

// skipFrames leaves out the frames to be skipped that data starts with (RFC 8878, section
// 3.1.2), which another method has as well. Of one that is longer, nothing is left.
func skipFrames(head []byte) (rest []byte, skipped bool) {
	for len(head) >= 8 && head[0]&0xf0 == 0x50 && bytes.Equal(head[1:4], []byte{0x2a, 0x4d, 0x18}) {
		skipped = true
		head = head[min(int64(len(head)), 8+int64(binary.LittleEndian.Uint32(head[4:]))):]
	}
	return head, skipped
}
