package codec

import (
	"bytes"
	"encoding/binary"
	"hash"
	"hash/adler32"
	"hash/crc32"
	"io"
	"time"
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
	Summed:     always,
	Decode:     func(src Source, _ Options) (io.ReadCloser, error) { return newGunzip(src) },
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		// Section 2.3: magic, method, flags, time, extra flags, unknown system.
		w := &gzipWriter{header: []byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, extraFlags(o.level()), 255}}
		w.wrapped = newWrapped(dst, o, crc32.NewIEEE(), func() []byte {
			b := binary.LittleEndian.AppendUint32(nil, w.sum.Sum32())
			return binary.LittleEndian.AppendUint32(b, uint32(w.size))
		})
		w.head = func() []byte { return w.header }
		return w, nil
	},
}

// extraFlags are 2 for the smallest and 4 for the fastest.
func extraFlags(level Level) byte {
	switch level {
	case Best:
		return 2
	case Fast:
		return 4
	}
	return 0
}

// A Describer is an encoder whose header can describe the file that it holds. It
// must be called before any data.
type Describer interface {
	Describe(name string, modified time.Time)
}

type gzipWriter struct {
	*wrapped
	header []byte
}

// Describe fills in the header: a name of Latin characters, and the time.
func (w *gzipWriter) Describe(name string, modified time.Time) {
	if seconds := modified.Unix(); !modified.IsZero() && seconds > 0 && seconds == int64(uint32(seconds)) {
		binary.LittleEndian.PutUint32(w.header[4:], uint32(seconds))
	}
	var latin []byte
	for _, c := range name {
		if c == 0 || c > 0xff {
			return
		}
		latin = append(latin, byte(c))
	}
	if latin != nil {
		w.header[3] |= flagName
		w.header = append(append(w.header, latin...), 0)
	}
}

var zlibMethod = Method{
	Name:       Zlib,
	Extensions: []string{".zz"},
	Magic:      isZlib,
	Summed:     always,
	Decode:     newUnzlib,
	Encode: func(dst io.Writer, o EncodeOptions) (io.WriteCloser, error) {
		var w *wrapped
		w = newWrapped(dst, o, adler32.New(), func() []byte { return binary.BigEndian.AppendUint32(nil, w.sum.Sum32()) })
		w.head = func() []byte {
			// Section 2.2: deflate with its largest window; the second byte
			// has the level, and makes both a multiple of 31.
			flags := map[Level]byte{0: 0, Fast: 0, Best: 3}
			level, known := flags[o.level()]
			if !known {
				level = 2
			}
			head := uint16(0x78)<<8 | uint16(level)<<6
			return binary.BigEndian.AppendUint16(nil, head+31-head%31)
		}
		return w, nil
	},
}

// wrapped is deflate with a header in front and a sum of the data after it.
type wrapped struct {
	dst     io.Writer
	blocks  *blocks
	sum     hash.Hash32
	size    int64
	head    func() []byte // nil: it is written
	trailer func() []byte
	err     error
}

func newWrapped(dst io.Writer, o EncodeOptions, sum hash.Hash32, trailer func() []byte) *wrapped {
	return &wrapped{dst: dst, sum: sum, trailer: trailer,
		blocks: newBlocks(dst, deflateBlocks, o, deflateAt(o.level()))}
}

func (w *wrapped) start() error {
	if w.head != nil && w.err == nil {
		_, w.err = w.dst.Write(w.head())
		w.head = nil
	}
	return w.err
}

func (w *wrapped) Write(p []byte) (int, error) {
	if err := w.start(); err != nil {
		return 0, err
	}
	w.sum.Write(p)
	w.size += int64(len(p))
	return w.blocks.Write(p)
}

// Abort ends it without compressing what is left.
func (w *wrapped) Abort() { w.blocks.Abort() }

func (w *wrapped) Close() error {
	if err := w.start(); err != nil {
		w.blocks.Close() // the first error says what is wrong
		return err
	}
	if err := w.blocks.Close(); err != nil {
		return err
	}
	_, err := w.dst.Write(w.trailer())
	return err
}
