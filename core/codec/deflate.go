package codec

import (
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
)

// Deflate is the name of the method of RFC 1951.
const Deflate = "deflate"

var deflate = Method{
	Name: Deflate,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) {
		d, ok := inflaters.Get().(*inflater)
		if !ok {
			return &inflater{flate.NewReader(src)}, nil
		}
		return d, d.ReadCloser.(flate.Resetter).Reset(src, nil)
	},
	Encode: func(dst io.Writer) (io.WriteCloser, error) {
		d, ok := deflaters.Get().(*deflater)
		if !ok {
			w, err := flate.NewWriter(dst, flate.DefaultCompression)
			return &deflater{w}, err
		}
		d.Reset(dst)
		return d, nil
	},
}

// Both hold windows and tables of tens of kilobytes, far more than a small
// entry costs: they go round.
var inflaters, deflaters sync.Pool

type inflater struct{ io.ReadCloser }

func (d *inflater) Close() error {
	err := d.ReadCloser.Close()
	inflaters.Put(d)
	return err
}

type deflater struct{ *flate.Writer }

func (d *deflater) Close() error {
	err := d.Writer.Close()
	deflaters.Put(d)
	return err
}
