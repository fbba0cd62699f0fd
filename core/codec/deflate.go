package codec

import (
	"bytes"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"

	"widecrate/core/codec/deflate"
	"widecrate/core/codec/inflate"
)

// Deflate is the name of the method of RFC 1951.
const Deflate = "deflate"

var deflateMethod = Method{
	Name:   Deflate,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return newInflater(src, &narrow), nil },
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		return newBlocks(dst, deflateBlocks, o, deflateAt(o.level())), nil
	},
}

// A block is so large that its border costs next to nothing; what it can refer
// back to is the window of the method (RFC 1951, section 2).
var deflateBlocks = &blockKind{size: 1 << 20, history: 32 << 10}

// They hold windows and tables of a hundred kilobytes and more, far more than a
// small entry costs: they go round.
var (
	narrow        = sync.Pool{New: func() any { return inflate.New(nil, false) }}
	wide          = sync.Pool{New: func() any { return inflate.New(nil, true) }}
	deflaters     [Best + 1]sync.Pool // by level
	fastDeflaters [Normal + 1]sync.Pool
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

// brief is up to which size an entry is compressed fast at the levels up to Normal: what
// more effort saves is little beside its headers, and takes three times as long.
const brief = 2 << 10

// deflateAt compresses blocks of one stream at a level: by our own encoder, or, where it
// is about speed alone, by the library's. All but the last end at a whole byte, so that
// they can stand one after the other.
func deflateAt(level Level) blockEncoder {
	if level < deflate.Lowest {
		return deflateFast(level)
	}
	return func(out, data []byte, start int, last bool) ([]byte, error) {
		if last && start == 0 && len(data) <= brief && level <= Normal {
			return deflateFast(level)(out, data, start, last)
		}
		e, ok := deflaters[level].Get().(*deflate.Encoder)
		if !ok {
			e = deflate.New(int(level))
		}
		out = e.Encode(out, data, start, last)
		deflaters[level].Put(e) // not after a panic, which leaves it half done
		return out, nil
	}
}

func deflateFast(level Level) blockEncoder {
	return func(out, data []byte, start int, last bool) ([]byte, error) {
		to := bytes.NewBuffer(out)
		w, ok := fastDeflaters[level].Get().(*flate.Writer)
		if !ok {
			var err error
			if w, err = flate.NewWriter(to, int(level)); err != nil {
				return nil, err
			}
		}
		defer fastDeflaters[level].Put(w)
		w.ResetDict(to, data[:start]) // Reset alone would keep the last one's
		_, err := w.Write(data[start:])
		if err == nil && last {
			err = w.Close()
		} else if err == nil {
			err = w.Flush()
		}
		return to.Bytes(), err
	}
}
