package codec

import "io"

// Store is the name of the method that leaves the bytes as they are.
const Store = "store"

var store = Method{
	Name:   Store,
	Decode: func(src Source) io.ReadCloser { return io.NopCloser(src) },
	Encode: func(dst io.Writer) io.WriteCloser { return asIs{dst} },
}

type asIs struct{ io.Writer }

func (asIs) Close() error { return nil }
