package codec

import "io"

// Store is the name of the method that leaves the bytes as they are.
const Store = "store"

var store = Method{
	Name:   Store,
	Decode: func(src Source, _ Options) (io.ReadCloser, error) { return io.NopCloser(src), nil },
	Encode: func(dst io.Writer, _ EncodeOptions) (io.WriteCloser, error) { return asIs{dst}, nil },
}

type asIs struct{ io.Writer }

func (asIs) Close() error { return nil }
