// Package lzw decodes files of the POSIX utility compress (IEEE Std 1003.1, "compress"): LZW
// with codes of 9 to 16 bits behind a header of three bytes. Nothing says where the data ends,
// and no sum is kept of it.
package lzw

import (
	"errors"
	"fmt"
	"io"

	"widecrate/core/codec/bits"
)

// HeaderLength is that of a file: two bytes of magic, and one that says how it was packed.
const HeaderLength = 3

// The bits of the third byte.
const (
	maskWidth = 0x1f // of the longest code
	blockMode = 0x80 // code 256 starts the table anew
	reserved  = 0x60
)

const (
	leastWidth = 9
	mostWidth  = 16
	codes      = 1 << mostWidth
	again      = 256 // in block mode
	perGroup   = 8   // codes that are written together; where their width changes, the rest of a group is left out
)

// IsHeader reports whether a file that starts with head is one.
func IsHeader(head []byte) bool {
	return len(head) >= HeaderLength && head[0] == 0x1f && head[1] == 0x9d && head[2]&reserved == 0 &&
		head[2]&maskWidth >= leastWidth && head[2]&maskWidth <= mostWidth
}

// A Reader decodes one file.
type Reader struct {
	in      bits.Reader
	block   bool
	most    uint // bits of a code
	width   uint // bits of a code now
	inGroup uint // codes that were read of one
	next    int  // the code that is added next
	before  int  // the last code; -1: there is none in this table
	first   byte // of the last string

	// Of each code: the code of its string without the last byte, that byte, and how long
	// the string is.
	prefix [codes]uint16
	suffix [codes]byte
	length [codes]uint16

	buffer      []byte
	read, write int // positions: of the next byte to hand out, and to fill in
	err         error
}

// room is how much is decoded before it is handed out; the longest string fits behind it.
const room = 64 << 10

// NewReader reads the header, and then what follows.
func NewReader(src bits.Source) (*Reader, error) {
	head, err := src.Peek(HeaderLength)
	if len(head) < HeaderLength {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return nil, err
	}
	if !IsHeader(head) {
		return nil, fmt.Errorf("its header % x is none of a .Z file", head)
	}
	r := &Reader{block: head[2]&blockMode != 0, most: uint(head[2] & maskWidth), buffer: make([]byte, room+codes)}
	// Codes of at most 9 bits are longer by one once there are 512 of them: so they were
	// written.
	r.most = max(r.most, leastWidth+1)
	if _, err := src.Discard(HeaderLength); err != nil {
		return nil, err
	}
	r.in.Reset(src)
	for code := range again {
		r.suffix[code], r.length[code] = byte(code), 1
	}
	r.start()
	return r, nil
}

// start empties the table.
func (r *Reader) start() {
	r.width, r.inGroup, r.before = leastWidth, 0, -1
	r.next = again
	if r.block {
		r.next++
	}
}

// Read reads decoded bytes.
func (r *Reader) Read(p []byte) (int, error) {
	if r.read == r.write && len(p) > 0 {
		r.read, r.write = 0, 0
		for r.err == nil && r.write < room {
			r.err = r.decode()
		}
	}
	n := copy(p, r.buffer[r.read:r.write])
	r.read += n
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, r.err
}

var errNoCode = errors.New("a code that stands for nothing")

// decode reads codes until there is no room left, or their width changes.
func (r *Reader) decode() error {
	for r.write < room {
		if r.next >= 1<<r.width && r.width < r.most {
			if err := r.align(); err != nil {
				return err
			}
			r.width++
		}
		if r.in.Count < r.width {
			if r.in.Fill(); r.in.Count < r.width {
				return r.end()
			}
		}
		code := int(r.in.Bits & (1<<r.width - 1))
		r.in.Drop(r.width)
		r.inGroup++
		if code == again && r.block {
			if err := r.align(); err != nil {
				return err
			}
			r.start()
			continue
		}
		if err := r.string(code); err != nil {
			return err
		}
	}
	return nil
}

// string writes what a code stands for, from its end, and takes in the last string with the
// first byte of this one behind it. The code that is about to be added is that of the last
// string with its own first byte.
func (r *Reader) string(code int) error {
	length, from := 0, code
	switch {
	case r.before < 0:
		if code >= again {
			return errNoCode
		}
		length = 1
	case code < r.next:
		length = int(r.length[code])
	case code == r.next && r.next < 1<<r.most:
		length, from = int(r.length[r.before])+1, r.before
	default:
		return errNoCode
	}
	at := r.write + length
	if from != code {
		at--
		r.buffer[at] = r.first
	}
	for from >= again {
		at--
		r.buffer[at] = r.suffix[from]
		from = int(r.prefix[from])
	}
	r.buffer[at-1] = byte(from)
	r.first = byte(from)
	r.write += length
	if r.before >= 0 && r.next < 1<<r.most {
		r.prefix[r.next], r.suffix[r.next], r.length[r.next] = uint16(r.before), r.first, r.length[r.before]+1
		r.next++
	}
	r.before = code
	return nil
}

// align goes to the end of a group of codes.
func (r *Reader) align() error {
	for ; r.inGroup%perGroup != 0; r.inGroup++ {
		if _, err := r.in.Take(r.width); err != nil {
			if err == io.ErrUnexpectedEOF { // a group at the end is not filled up
				err = r.end()
			}
			return err
		}
	}
	r.inGroup = 0
	return nil
}

// end judges what is left, less than a code: what fills up the last byte.
func (r *Reader) end() error {
	if err := r.in.Err(); err != io.ErrUnexpectedEOF {
		return err
	}
	rest, count, err := r.in.Rest()
	switch {
	case err != nil:
		return err
	case count >= 8 || rest != 0:
		return io.ErrUnexpectedEOF
	}
	return io.EOF
}
