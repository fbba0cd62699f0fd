package codec

import (
	"io"

	"widecrate/core/codec/lzw"
)

// Compress is the name of the method of the POSIX utility of that name.
const Compress = "compress"

var compress = Method{
	Name:       Compress,
	Extensions: []string{".Z"}, // a small one is that of many other files
	Magic:      lzw.IsHeader,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) {
		r, err := lzw.NewReader(src)
		return io.NopCloser(r), err
	},
}
