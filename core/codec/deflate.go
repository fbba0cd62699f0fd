package codec

import (
	"bytes"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"

	"widecrate/core/codec/inflate"
)

// Deflate is the name of the method of RFC 1951.
const Deflate = "deflate"

var deflate = Method{
	Name:   Deflate,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return newInflater(src, &narrow), nil },
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		return newBlocks(dst, deflateBlock, deflateHistory, o, deflateBlocks(o.level())), nil
	},
}

// A block is so large that its border costs next to nothing; what it can refer
// back to is the window of the method (RFC 1951, section 2).
const (
	deflateBlock   = 1 << 20
	deflateHistory = 32 << 10
)

// Both hold windows and tables of a hundred kilobytes and more, far more than a
// small entry costs: they go round.
var (
	narrow    = sync.Pool{New: func() any { return inflate.New(nil, false) }}
	wide      = sync.Pool{New: func() any { return inflate.New(nil, true) }}
	deflaters [Best + 1]sync.Pool // by level
)

// inflater is a decoder of a pool, until it is closed.
type inflater struct {
	*inflate.Decoder
	pool *sync.Pool
}

func newInflater(src Source, pool *sync.Pool) *inflater {
	d := pool.Get().(*inflate.Decoder)
	d.Reset(src)
	return &inflater{d, pool}
}

// Close gives the decoder back, once: two streams must never share one.
func (d *inflater) Close() error {
	if d.Decoder != nil {
		d.Reset(nil)
		d.pool.Put(d.Decoder)
		d.Decoder = nil
	}
	return nil
}

// deflateBlocks compresses blocks of one stream: all but the last end at a whole
// byte, so that they can stand one after the other.
func deflateBlocks(level Level) blockEncoder {
	return func(block, before []byte, last bool) ([]byte, error) {
		var out bytes.Buffer
		out.Grow(len(block)/2 + 64)
		w, ok := deflaters[level].Get().(*flate.Writer)
		if !ok {
			var err error
			if w, err = flate.NewWriter(&out, int(level)); err != nil {
				return nil, err
			}
		}
		defer deflaters[level].Put(w)
		w.ResetDict(&out, before) // Reset alone would keep the last one's
		_, err := w.Write(block)
		if err == nil && last {
			err = w.Close()
		} else if err == nil {
			err = w.Flush()
		}
		return out.Bytes(), err
	}
}
