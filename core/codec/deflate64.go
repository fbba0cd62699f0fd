package codec

import "io"

// Deflate64 is the name of deflate with a wider window, which desktop systems
// use for large archives.
const Deflate64 = "deflate64"

var deflate64 = Method{
	Name:   Deflate64,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return newInflater(src, &wide), nil },
}
