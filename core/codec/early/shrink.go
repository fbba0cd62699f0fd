package early

import (
	"errors"

	"widecrate/core/codec/bits"
)

// Codes of section 5.1: up to 13 bits; those below 256 are bytes, the one after them is followed
// by what to do.
const (
	shrinkLeast  = 9
	shrinkMost   = 13
	shrinkCodes  = 1 << shrinkMost
	shrinkEscape = 256
	shrinkWider  = 1
	shrinkClear  = 2
)

// unused is the prefix of a code that stands for nothing.
const unused = shrinkEscape

type shrunk struct {
	width  uint
	prefix [shrinkCodes]uint16
	suffix [shrinkCodes]byte
	next   int // no code between the escape and this one is unused
	before int // the last code; -1: there was none
	first  byte
}

// NewShrink decodes what was shrunk (5.1): LZW with codes that grow when the packer says so, and
// of which those that are no other's prefix can be given up.
func NewShrink(src bits.Source, size int64) *Decoder {
	s := &shrunk{width: shrinkLeast, next: shrinkEscape + 1, before: -1}
	for code := range s.prefix {
		s.prefix[code] = unused
		s.suffix[code] = byte(code)
	}
	return newDecoder(src, size, s.step)
}

var errNoCode = errors.New("a code that stands for nothing")

func (s *shrunk) step(d *Decoder) error {
	code, err := d.in.Take(s.width)
	switch {
	case err != nil:
		return err
	case code == shrinkEscape:
		return s.escape(d)
	case s.before < 0:
		if code > shrinkEscape {
			return errNoCode
		}
		s.first = byte(code)
		d.put(s.first)
	default:
		if err := s.string(d, int(code)); err != nil {
			return err
		}
		s.add()
	}
	s.before = int(code)
	return nil
}

func (s *shrunk) escape(d *Decoder) error {
	what, err := d.in.Take(s.width)
	switch {
	case err != nil:
		return err
	case what == shrinkWider && s.width < shrinkMost:
		s.width++
	case what == shrinkClear:
		s.clear()
	default:
		return errors.New("an escape code that there is not")
	}
	return nil
}

// string writes what a code stands for, which is found from its end. The code that is about to
// be added is that of the last string with its own first byte behind it.
func (s *shrunk) string(d *Decoder, code int) error {
	end := d.write + most
	at := end
	if code > shrinkEscape && s.prefix[code] == unused {
		if code != s.unused() {
			return errNoCode
		}
		at--
		d.buffer[at] = s.first
		code = s.before
	}
	for code > shrinkEscape {
		if s.prefix[code] == unused || at == d.write+1 {
			return errNoCode
		}
		at--
		d.buffer[at] = s.suffix[code]
		code = int(s.prefix[code])
	}
	at--
	d.buffer[at] = byte(code)
	s.first = byte(code)
	d.write += copy(d.buffer[d.write:], d.buffer[at:end])
	return nil
}

// unused is the code that is added next; shrinkCodes: there is room for none.
func (s *shrunk) unused() int {
	for s.next < shrinkCodes && s.prefix[s.next] != unused {
		s.next++
	}
	return s.next
}

// add takes in the last string with the first byte of this one behind it. The last one's code
// may have been given up meanwhile; then this is one that stands for nothing until that one is
// used again.
func (s *shrunk) add() {
	if code := s.unused(); code < shrinkCodes {
		s.prefix[code], s.suffix[code] = uint16(s.before), s.first
	}
}

// clear gives up the codes that are no other's prefix.
func (s *shrunk) clear() {
	var isPrefix [shrinkCodes]bool
	for _, prefix := range s.prefix[shrinkEscape+1:] {
		isPrefix[prefix] = true
	}
	for code := shrinkEscape + 1; code < shrinkCodes; code++ {
		if !isPrefix[code] {
			s.prefix[code] = unused
		}
	}
	s.next = shrinkEscape + 1
}
