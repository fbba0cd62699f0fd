package codec

import (
	"bytes"
	"errors"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

// lzma2 reads the chunks of blocks, one block after the other. What a decoder
// needs is made once for all of them: small blocks may ask for much.
type lzma2 struct {
	decoder *lzma.Reader2
	memory  int64 // of its dictionary
	feed    bytes.Reader
	chunk   []byte

	src       *xzInput
	wanted    int64 // dictionary of this block
	left      int   // decoded bytes of the chunk that were not read
	needDict  bool  // nothing has reset the dictionary yet
	needProps bool  // nor said the properties
}

// start goes on with the first chunk of another block.
func (d *lzma2) start(src *xzInput, memory int64) {
	d.src, d.wanted, d.left, d.needDict, d.needProps = src, memory, 0, true, true
}

// Read reads data of the block; io.EOF follows its last chunk.
func (d *lzma2) Read(p []byte) (int, error) {
	if d.left == 0 {
		if err := d.next(); err != nil {
			return 0, err
		}
	}
	n, err := io.ReadFull(d.decoder, p[:min(len(p), d.left)])
	d.left -= n
	return n, cutOff(err)
}

var errChunk = errors.New("a chunk of LZMA2 makes no sense")

// next takes the next chunk: a control byte, sizes, properties where the control
// byte says so, and data (section 5.3.1, and the chunks of LZMA2).
func (d *lzma2) next() error {
	control, err := d.src.ReadByte()
	if err != nil {
		return cutOff(err)
	}
	if control == 0 {
		return io.EOF
	}
	const resetDict, store, packed, newProps, resetAll = 1, 2, 0x80, 0xc0, 0xe0
	header := 3 // bytes
	switch {
	case control > store && control < packed, d.needDict && control != resetDict && control < resetAll:
		return errChunk
	case control >= newProps:
		header = 6
		d.needProps = false
	case control >= packed && d.needProps:
		return errChunk
	case control >= packed:
		header = 5
	}
	d.needDict = false
	d.chunk = append(d.chunk[:0], control)
	if err := d.take(header - 1); err != nil {
		return err
	}
	size, length := 0, 0
	if control >= packed {
		size = int(control&0x1f)<<16 + int(d.chunk[1])<<8 + int(d.chunk[2]) + 1
		length = int(d.chunk[3])<<8 + int(d.chunk[4]) + 1
	} else {
		size = int(d.chunk[1])<<8 + int(d.chunk[2]) + 1
		length = size
	}
	if err := d.take(length); err != nil {
		return err
	}
	d.feed.Reset(d.chunk)
	d.left = size
	if d.decoder == nil || d.memory < d.wanted {
		d.memory = d.wanted
		d.decoder, err = lzma.Reader2Config{DictCap: int(max(d.memory, lzma.MinDictCap))}.NewReader2(&d.feed)
	}
	return err
}

// take reads n more bytes of the chunk.
func (d *lzma2) take(n int) error {
	at := len(d.chunk)
	if cap(d.chunk) < at+n {
		d.chunk = append(make([]byte, 0, 6+1<<16), d.chunk...)
	}
	d.chunk = d.chunk[:at+n]
	_, err := io.ReadFull(d.src, d.chunk[at:])
	return cutOff(err)
}
