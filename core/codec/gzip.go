package codec

import (
	"bytes"
	"io"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
)

// The names of deflate in two wrappers: that of RFC 1952, of which a stream may
// have several members, and that of RFC 1950.
const (
	Gzip = "gzip"
	Zlib = "zlib"
)

var gzipMethod = Method{
	Name:       Gzip,
	Extensions: []string{".gz"},
	Magic:      func(head []byte) bool { return bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}) },
	Decode:     func(src Source, _ Options) (io.ReadCloser, error) { return gzip.NewReader(src) },
	Encode: func(dst io.Writer) (io.WriteCloser, error) {
		w := gzipWriter{gzip.NewWriter(dst)}
		w.ModTime = time.Unix(0, 0) // says that there is none
		return w, nil
	},
}

// A Describer is an encoder whose header can tell of the file that it holds. It
// must be told before any data.
type Describer interface {
	Describe(name string, modified time.Time)
}

type gzipWriter struct{ *gzip.Writer }

// Describe fills in the header: a name of Latin characters, and the time.
func (w gzipWriter) Describe(name string, modified time.Time) {
	for _, c := range name {
		if c == 0 || c > 0xff {
			name = ""
			break
		}
	}
	w.Name = name
	if seconds := modified.Unix(); !modified.IsZero() && seconds > 0 && seconds == int64(uint32(seconds)) {
		w.ModTime = modified
	}
}

var zlibMethod = Method{
	Name:       Zlib,
	Extensions: []string{".zz"},
	Magic:      isZlib,
	Decode:     func(src Source, _ Options) (io.ReadCloser, error) { return zlib.NewReader(src) },
	Encode:     func(dst io.Writer) (io.WriteCloser, error) { return zlib.NewWriter(dst), nil },
}

// isZlib holds two bytes against section 2.2, which one of about a thousand
// random pairs would pass, and then makes sure that they start a stream.
func isZlib(head []byte) bool {
	const deflateMethod, largestWindow = 8, 7
	if len(head) < 6 || head[0]&15 != deflateMethod || head[0]>>4 > largestWindow || (uint(head[0])<<8|uint(head[1]))%31 != 0 || head[1]&0x20 != 0 {
		return false
	}
	r, err := zlib.NewReader(bytes.NewReader(head))
	if err != nil {
		return false
	}
	_, err = io.Copy(io.Discard, r)
	return err == nil || err == io.ErrUnexpectedEOF
}
