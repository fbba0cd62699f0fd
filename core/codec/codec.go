// Package codec has the compression methods by name. Each is a stream codec
// from a library behind two functions; containers (ZIP, tar) know the names
// and nothing of the libraries. A new method is one file and one line here.
package codec

import "io"

// A Source is what a decoder reads from. Because it can be read by the byte, a
// decoder takes exactly the bytes that belong to its stream.
type Source interface {
	io.Reader
	io.ByteReader
}

// A Method compresses and decompresses one stream.
type Method struct {
	Name string

	// Decode returns the decompressed stream. Close gives its buffers back;
	// it does not close src.
	Decode func(src Source) io.ReadCloser

	// Encode returns a compressor to dst. Close writes the end of the stream;
	// it does not close dst.
	Encode func(dst io.Writer) io.WriteCloser
}

var methods = []Method{store, deflate}

// ByName returns the method with that name.
func ByName(name string) (Method, bool) {
	for _, m := range methods {
		if m.Name == name {
			return m, true
		}
	}
	return Method{}, false
}
