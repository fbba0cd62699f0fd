package codec

import (
	"fmt"
	"io"

	"widecrate/core/codec/early"
)

// The names of the methods that the first programs for ZIP wrote. They need the size of the data.
const (
	Shrink  = "shrink"
	Implode = "implode"
)

// Reduce is the name of the method with a factor from 1 to 4.
func Reduce(factor int) string { return fmt.Sprintf("reduce %d", factor) }

var shrink = earlyMethod(Shrink, func(src Source, o Options) *early.Decoder { return early.NewShrink(src, o.Size) })

var implode = earlyMethod(Implode, func(src Source, o Options) *early.Decoder { return early.NewImplode(src, o.Size, o.Imploded) })

func reduce(factor int) Method {
	return earlyMethod(Reduce(factor), func(src Source, o Options) *early.Decoder { return early.NewReduce(src, o.Size, factor) })
}

func earlyMethod(name string, decode func(Source, Options) *early.Decoder) Method {
	return Method{Name: name, Decode: func(src Source, o Options) (io.ReadCloser, error) {
		return io.NopCloser(decode(src, o)), nil
	}}
}
