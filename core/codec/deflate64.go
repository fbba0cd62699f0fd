package codec

import (
	"io"

	"widecrate/core/codec/inflate"
)

// Deflate64 is the name of deflate with a wider window, which desktop systems
// use for large archives. No library reads it.
const Deflate64 = "deflate64"

var deflate64 = Method{
	Name: Deflate64,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) {
		return io.NopCloser(inflate.New(src, true)), nil
	},
}
