package tar

import (
	"errors"
	"io"
	"strconv"
	"strings"

	"widecrate/core/archive"
)

var errSparse = errors.New("its map of holes is wrong")

// mostPieces bounds the map of a sparse file.
const mostPieces = 1 << 20

// oldSparse reads the map of the oldest sparse format: in the header, and in
// blocks that follow it.
func (p *parser) oldSparse(m *member, b *block, at int64) error {
	read := func(raw []byte) error {
		for ; len(raw) >= 24 && raw[0] != 0; raw = raw[24:] {
			offset, err := number(raw[:12])
			if err != nil {
				return errSparse
			}
			length, err := number(raw[12:24])
			if err != nil {
				return errSparse
			}
			m.pieces = append(m.pieces, piece{offset, length})
		}
		return nil
	}
	if err := read(b.bytes(fieldSparse)); err != nil {
		return err
	}
	for more := b.bytes(fieldMore)[0]; more != 0; {
		var next block
		if _, err := io.ReadFull(p.in, next[:]); err != nil {
			return cutOff(at, err)
		}
		if err := read(next.bytes(moreSparse)); err != nil {
			return err
		}
		if more = next.bytes(moreMore)[0]; len(m.pieces) > mostPieces {
			return errSparse
		}
	}
	size, err := number(b.bytes(fieldRealSize))
	if err != nil {
		return errSparse
	}
	return m.setSparse(size)
}

// paxSparse reads the map of the three sparse formats in extended headers: 0.0
// as repeated records, 0.1 as one record, 1.0 in front of the data.
func (p *parser) paxSparse(m *member, records records, repeated []string) error {
	get := func(key string) string {
		value, _ := records.get(key)
		return value
	}
	size := first(get(sparseReal), get(sparseSize))
	if size == "" {
		return nil
	}
	real, err := strconv.ParseInt(size, 10, 64)
	if err != nil {
		return errSparse
	}
	numbers := repeated
	switch {
	case get(sparseMajor) == "1":
		if numbers, err = p.sparseInData(m); err != nil {
			return err
		}
	case get(sparseMap) != "":
		numbers = strings.Split(get(sparseMap), ",")
	}
	if len(numbers)%2 != 0 || len(numbers) > 2*mostPieces {
		return errSparse
	}
	for i := 0; i < len(numbers); i += 2 {
		offset, err1 := strconv.ParseInt(numbers[i], 10, 64)
		length, err2 := strconv.ParseInt(numbers[i+1], 10, 64)
		if err1 != nil || err2 != nil {
			return errSparse
		}
		m.pieces = append(m.pieces, piece{offset, length})
	}
	return m.setSparse(real)
}

// sparseInData reads the map of format 1.0: numbers, one a line, the first of
// them how many pairs follow, filled up to a whole block.
func (p *parser) sparseInData(m *member) ([]string, error) {
	var numbers []string
	wanted := 1 // numbers, the first of which says how many there are
	var line []byte
	for len(numbers) < wanted {
		var b block
		if m.stored < blockSize {
			return nil, errSparse
		}
		if _, err := io.ReadFull(p.in, b[:]); err != nil {
			return nil, cutOff(p.in.Offset(), err)
		}
		m.stored -= blockSize
		for _, c := range b {
			if c != '\n' {
				if line = append(line, c); len(line) > longestNumber {
					return nil, errSparse
				}
				continue
			}
			if numbers = append(numbers, string(line)); len(numbers) == 1 {
				count, err := strconv.Atoi(numbers[0])
				if err != nil || count < 0 || count > mostPieces {
					return nil, errSparse
				}
				wanted = 1 + 2*count
			}
			if line = line[:0]; len(numbers) == wanted {
				break
			}
		}
	}
	return numbers[1:], nil
}

// longestNumber is that of 64 bits in decimal digits.
const longestNumber = 20

// setSparse checks the map against the sizes.
func (m *member) setSparse(size int64) error {
	if size > archive.LargestSize {
		return errSparse
	}
	var end, data int64
	for _, piece := range m.pieces {
		if piece.offset < end || piece.length < 0 || piece.offset > size || piece.length > size-piece.offset {
			return errSparse
		}
		end = piece.offset + piece.length
		data += piece.length
	}
	if data != m.stored {
		return errSparse
	}
	m.Size, m.Holes, m.Kind = size, size-data, archive.File
	if m.pieces == nil {
		m.pieces = []piece{}
	}
	return nil
}

// expanded reads the data of a sparse file with its holes.
type expanded struct {
	data     io.Reader
	pieces   []piece
	at, size int64
}

// run says what comes next: a hole or data, and how much of it. There is none at
// the end.
func (x *expanded) run() (hole bool, length int64) {
	for len(x.pieces) > 0 && x.at == x.pieces[0].offset+x.pieces[0].length {
		x.pieces = x.pieces[1:]
	}
	if len(x.pieces) == 0 {
		return true, x.size - x.at
	}
	if start := x.pieces[0].offset; x.at < start {
		return true, start - x.at
	}
	return false, x.pieces[0].offset + x.pieces[0].length - x.at
}

func (x *expanded) Read(p []byte) (n int, err error) {
	hole, length := x.run()
	if length == 0 {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), length)]
	n = len(p)
	if hole {
		clear(p)
	} else if n, err = x.data.Read(p); err == io.EOF && n == 0 {
		err = io.ErrUnexpectedEOF
	} else if err == io.EOF {
		err = nil
	}
	x.at += int64(n)
	return n, err
}

// WriteTo writes what is left, holes as such where w can have them.
func (x *expanded) WriteTo(w io.Writer) (written int64, err error) {
	holes, ok := w.(archive.HoleWriter)
	if !ok {
		return io.Copy(w, struct{ io.Reader }{x})
	}
	for {
		hole, n := x.run()
		switch {
		case n == 0:
			return written, nil
		case hole:
			err = holes.WriteHole(n)
			x.at += n
		default:
			if n, err = io.CopyN(w, struct{ io.Reader }{x}, n); err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
		}
		if written += n; err != nil {
			return written, err
		}
	}
}
