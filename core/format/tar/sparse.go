package tar

import (
	"bytes"
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
func (p *parser) paxSparse(m *member, records map[string]string, repeated []string) error {
	size := first(records[sparseReal], records[sparseSize])
	if size == "" {
		return nil
	}
	real, err := strconv.ParseInt(size, 10, 64)
	if err != nil {
		return errSparse
	}
	numbers := repeated
	switch {
	case records[sparseMajor] == "1":
		if numbers, err = p.sparseInData(m); err != nil {
			return err
		}
	case records[sparseMap] != "":
		numbers = strings.Split(records[sparseMap], ",")
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
	var text []byte
	count := -1
	for {
		lines := bytes.Count(text, []byte{'\n'})
		if count < 0 && lines > 0 {
			line, _, _ := bytes.Cut(text, []byte{'\n'})
			var err error
			if count, err = strconv.Atoi(string(line)); err != nil || count < 0 || count > mostPieces {
				return nil, errSparse
			}
		}
		if count >= 0 && lines >= 1+2*count {
			numbers := strings.Split(string(text), "\n")
			return numbers[1 : 1+2*count], nil
		}
		var b block
		if m.stored < blockSize {
			return nil, errSparse
		}
		if _, err := io.ReadFull(p.in, b[:]); err != nil {
			return nil, cutOff(p.in.offset(), err)
		}
		m.stored -= blockSize
		text = append(text, b[:]...)
	}
}

// setSparse checks the map against the sizes.
func (m *member) setSparse(size int64) error {
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
	m.Size, m.Kind = size, archive.File
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

func (x *expanded) Read(p []byte) (int, error) {
	for len(x.pieces) > 0 && x.at == x.pieces[0].offset+x.pieces[0].length {
		x.pieces = x.pieces[1:]
	}
	if x.at == x.size {
		return 0, io.EOF
	}
	end, hole := x.size, true
	if len(x.pieces) > 0 {
		if end = x.pieces[0].offset; x.at >= end {
			end, hole = end+x.pieces[0].length, false
		}
	}
	p = p[:min(int64(len(p)), end-x.at)]
	n := len(p)
	var err error
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
