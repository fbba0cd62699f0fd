package codec

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/adler32"
	"hash/crc32"
	"io"
	"time"

	"widecrate/core/fault"
)

// unwrapped reads what a wrapper holds: deflate with a header in front and a sum
// of the data after it.
type unwrapped struct {
	src  Source
	data *inflater
	sum  hash.Hash32
	size int64
	err  error

	all     int64 // bytes of the members before
	members Members
	padding int64

	trailer func(*unwrapped) error
	next    func(*unwrapped) error // continues after the trailer; io.EOF: that was all
}

func (u *unwrapped) Read(p []byte) (n int, err error) {
	for n == 0 && u.err == nil && len(p) > 0 {
		n, u.err = u.data.Read(p)
		u.sum.Write(p[:n])
		u.size += int64(n)
		if u.err == io.EOF {
			u.err = cutOff(u.trailer(u))
			if u.err == nil {
				u.err = u.next(u)
			}
		}
	}
	if n > 0 {
		return n, nil
	}
	return 0, u.err
}

func (u *unwrapped) Close() error { return u.data.Close() }

// cutOff is for where data must not end.
func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

var (
	errNoMember = errors.New("no gzip member begins where one should")
	errBehind   = errors.New("something stands behind its end")
)

// GzipHeader is what the header of a gzip member says about its file.
type GzipHeader struct {
	Name     string    // "": it has none
	Modified time.Time // in whole seconds; zero: not known
}

// The flags of RFC 1952, section 2.3.1.
const (
	flagHeaderCRC = 1 << 1
	flagExtra     = 1 << 2
	flagName      = 1 << 3
	flagComment   = 1 << 4
	flagsReserved = 7 << 5
)

// ReadGzipHeader reads the header of a member (RFC 1952, section 2.3). The error
// is io.EOF where src has nothing more, and io.ErrUnexpectedEOF where it ends
// within.
func ReadGzipHeader(src Source) (h GzipHeader, err error) {
	if _, err := src.Peek(1); err != nil {
		return h, err
	}
	r := headerReader{src: src, sum: crc32.NewIEEE()}
	var fixed [10]byte
	for i := range fixed {
		fixed[i] = r.byte()
	}
	flags := fixed[3]
	switch {
	case r.err != nil:
		return h, cutOff(r.err)
	case fixed[0] != 0x1f || fixed[1] != 0x8b:
		return h, errNoMember
	case fixed[2] != 8:
		return h, fmt.Errorf("its compression method %d is none that gzip has", fixed[2])
	case flags&flagsReserved != 0:
		return h, errors.New("its header has flags that there are not")
	}
	if seconds := binary.LittleEndian.Uint32(fixed[4:]); seconds != 0 {
		h.Modified = time.Unix(int64(seconds), 0)
	}
	if flags&flagExtra != 0 {
		for range int(r.byte()) | int(r.byte())<<8 {
			r.byte()
		}
	}
	if flags&flagName != 0 {
		h.Name = r.text()
	}
	if flags&flagComment != 0 {
		r.text()
	}
	if sum := uint16(r.sum.Sum32()); flags&flagHeaderCRC != 0 && sum != uint16(r.byte())|uint16(r.byte())<<8 && r.err == nil {
		return h, errors.New("its header contradicts its own checksum")
	}
	return h, cutOff(r.err)
}

// headerReader reads a header by the byte, and sums it up.
type headerReader struct {
	src io.ByteReader
	sum hash.Hash32
	one [1]byte
	err error
}

func (r *headerReader) byte() (c byte) {
	if r.err == nil {
		c, r.err = r.src.ReadByte()
		r.one[0] = c
		r.sum.Write(r.one[:])
	}
	return c
}

// longestText bounds what a header may make us keep.
const longestText = 64 << 10

// text reads Latin characters up to a zero.
func (r *headerReader) text() string {
	var s []rune
	for c := r.byte(); c != 0 && r.err == nil; c = r.byte() {
		if s = append(s, rune(c)); len(s) > longestText {
			r.err = errors.New("its header has a text that does not end")
		}
	}
	return string(s)
}

func newGunzip(src Source) (io.ReadCloser, error) {
	header, err := ReadGzipHeader(src)
	if err != nil {
		return nil, err
	}
	u := &unwrapped{src: src, data: newInflater(src, &narrow), sum: crc32.NewIEEE(), trailer: gzipTrailer, next: nextMember}
	u.members.name = header.FileName()
	return u, nil
}

// Members are those that start a file of their own.
func (u *unwrapped) Members() *Members { return &u.members }

// gzipTrailer checks the end of a member against its data: CRC-32, and the size
// in 32 bits.
func gzipTrailer(u *unwrapped) error {
	var b [8]byte
	if _, err := io.ReadFull(u.src, b[:]); err != nil {
		return err
	}
	if sum := binary.LittleEndian.Uint32(b[:]); sum != u.sum.Sum32() {
		return fmt.Errorf("its data has CRC-32 %08x where its end says %08x", u.sum.Sum32(), sum)
	}
	if size := binary.LittleEndian.Uint32(b[4:]); size != uint32(u.size) {
		return fmt.Errorf("its data has %d bytes, which its end contradicts", u.size)
	}
	return nil
}

// nextMember begins with the next member, if there is one.
func nextMember(u *unwrapped) error {
	if head, err := u.src.Peek(1); err == nil && head[0] == 0 {
		return u.skipPadding()
	}
	header, err := ReadGzipHeader(u.src)
	switch {
	case err == errNoMember:
		return errBehind
	case err != nil:
		return err
	}
	u.data.Reset(u.src)
	u.sum.Reset()
	u.all += u.size
	u.size = 0
	return u.members.note(u.all, header)
}

// skipPadding takes zeros, with which tapes and block devices fill up, to the end.
func (u *unwrapped) skipPadding() error {
	for {
		c, err := u.src.ReadByte()
		if err != nil {
			return err
		}
		if c != 0 {
			return errBehind
		}
		u.padding++
	}
}

// Padding is how many zeros followed the data, as far as it was read.
func (u *unwrapped) Padding() int64 { return u.padding }

func newUnzlib(src Source, o Options) (io.ReadCloser, error) {
	var head [2]byte
	if _, err := io.ReadFull(src, head[:]); err != nil {
		return nil, cutOff(err)
	}
	switch {
	case !zlibHeader(head):
		return nil, errors.New("it does not begin with the header of zlib")
	case head[1]&zlibDictionary == 0:
		o.Dictionary = nil
	default:
		var id [4]byte // of the dictionary: its Adler-32
		if _, err := io.ReadFull(src, id[:]); err != nil {
			return nil, cutOff(err)
		}
		if o.Dictionary == nil || adler32.Checksum(o.Dictionary) != binary.BigEndian.Uint32(id[:]) {
			return nil, o.needed()
		}
	}
	data := newInflater(src, &narrow)
	data.Preset(o.Dictionary)
	return &unwrapped{src: src, data: data, sum: adler32.New(), trailer: zlibTrailer, next: noOther}, nil
}

// noOther makes sure that a stream was all that there is.
func noOther(u *unwrapped) error {
	if _, err := u.src.Peek(1); err != nil {
		return err
	}
	return errBehind
}

// zlibTrailer checks the checksum against the data (RFC 1950, section 2.2).
func zlibTrailer(u *unwrapped) error {
	var b [4]byte
	if _, err := io.ReadFull(u.src, b[:]); err != nil {
		return err
	}
	if sum := binary.BigEndian.Uint32(b[:]); sum != u.sum.Sum32() {
		return fmt.Errorf("its data has Adler-32 %08x where its end says %08x", u.sum.Sum32(), sum)
	}
	return nil
}

const zlibDictionary = 1 << 5

// zlibHeader checks two bytes against RFC 1950, section 2.2.
func zlibHeader(head [2]byte) bool {
	const method, largestWindow = 8, 7
	return head[0]&15 == method && head[0]>>4 <= largestWindow && binary.BigEndian.Uint16(head[:])%31 == 0
}

// isZlib makes sure that what passes for a header, as one of about a thousand
// random pairs of bytes would, starts a stream.
func isZlib(head []byte) bool {
	if len(head) < 6 {
		return false
	}
	var src Bytes
	src.Reset(head)
	r, err := newUnzlib(&src, Options{})
	if fault.Of(err) == fault.Incomplete { // without the dictionary; any other does to see whether this is deflate
		data := newInflater(&src, &narrow)
		data.Preset(make([]byte, deflateBlocks.history))
		r, err = data, nil
	}
	if err != nil {
		return false
	}
	defer r.Close()
	_, err = io.Copy(io.Discard, r)
	return err == nil || err == io.ErrUnexpectedEOF || err == errBehind
}
