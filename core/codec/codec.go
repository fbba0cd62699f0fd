// Package codec has the compression methods by name. Each is a stream codec
// from a library behind two functions; containers (ZIP, tar) know the names
// and nothing of the libraries. A new method is one file and one line here.
package codec

import (
	"io"

	"github.com/dustin/go-humanize"

	"widecrate/core/codec/bits"
	"widecrate/core/codec/early"
	"widecrate/core/fault"
)

// A Source is what a decoder reads from. Because it can be looked ahead in and
// read by the byte, a decoder takes exactly the bytes that belong to its stream.
// A bufio.Reader is one.
type Source interface {
	io.Reader
	io.ByteReader
	bits.Source
}

// DefaultMemory is what a header may ask for when nothing else is said: more
// than any common tool's highest level does.
const DefaultMemory = 1 << 30

// Options bound a decoder.
type Options struct {
	MaxMemory  int64  // bytes that a header may ask for; 0: DefaultMemory
	Dictionary []byte // that data was packed with; nil: none
	NoEnd      bool   // no mark of its own ends a stream: its size does
	Size       int64  // bytes of the data, for methods that cannot say where it ends

	Imploded early.Layout
}

func (o Options) maxMemory() int64 {
	if o.MaxMemory > 0 {
		return o.MaxMemory
	}
	return DefaultMemory
}

// needed is the error of data that was packed with a dictionary, where there is none or another.
func (o Options) needed() error {
	if o.Dictionary == nil {
		return fault.New(fault.Incomplete, "it was packed with a dictionary of its own, and cannot be read without that").Suggest(fault.GiveDictionary)
	}
	return fault.New(fault.Incomplete, "it was packed with another dictionary than the one given").Suggest(fault.GiveDictionary)
}

// check refuses a header that asks for too much memory.
func (o Options) check(wanted int64) error {
	if wanted > o.maxMemory() {
		return fault.New(fault.Unsafe, "its header asks for %s of memory", humanize.IBytes(uint64(wanted))).Suggest(fault.AllowMemory)
	}
	return nil
}

// A Method compresses and decompresses one stream.
type Method struct {
	Name string

	// Decode returns the decompressed stream, which may be an io.WriterTo.
	// Close gives its buffers back; it does not close src. What is wrong with the header may come as an
	// error now, or from the first Read.
	Decode func(src Source, o Options) (io.ReadCloser, error)

	// ReadsAhead says that Decode reads from src on goroutines of its own, so
	// that nobody else may look at src meanwhile.
	ReadsAhead bool

	// DecodeFile decodes a whole file in parallel, where its parts allow that;
	// where they don't, it fails and Decode is the way. It may be nil.
	DecodeFile func(r io.ReaderAt, size int64, o Options) (io.ReadCloser, error)

	// Encode returns a compressor to dst. Close writes the end of the stream;
	// dst stays open. Encode is nil for a method that is only read.
	Encode func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error)

	// Format is the name of the format of such files, where it is another.
	Format string

	// Extensions are those of a file that is one such stream, Magic recognises
	// its first bytes; both are empty for a method that only containers use.
	Extensions []string
	Magic      func(head []byte) bool

	// Summed reports whether a stream that starts like this brings a checksum of its data; nil:
	// none does.
	Summed func(head []byte) bool
}

// always is for methods whose streams all have a checksum.
func always([]byte) bool { return true }

var methods = []Method{
	store, deflateMethod, deflate64, gzipMethod, bzip2Method, xzMethod, zstdMethod, lz4Method, zlibMethod, lzmaMethod, lzmaFile,
	compress, shrink, reduce(1), reduce(2), reduce(3), reduce(4), implode,
}

// ByName returns the method with that name.
func ByName(name string) (Method, bool) {
	for _, m := range methods {
		if m.Name == name {
			return m, true
		}
	}
	return Method{}, false
}

// Streams lists the methods of which a stream is a file of its own.
func Streams() []Method {
	var streams []Method
	for _, m := range methods {
		if m.Magic != nil {
			streams = append(streams, m)
		}
	}
	return streams
}
