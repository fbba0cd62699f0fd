// Package lzma decodes LZMA and LZMA2: a range coder over adaptive models, and a window of
// what was decoded. It knows neither the container nor its checks. What a symbol is follows
// the public specification of LZMA; the chunks of LZMA2 are those of The .xz File Format.
package lzma

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrCorrupt is the error of data that makes no sense.
var ErrCorrupt = errors.New("the data of LZMA makes no sense")

// place says where data makes no sense: before so many bytes of the stream.
func place(err error, offset int64) error {
	if err == ErrCorrupt {
		return fmt.Errorf("before offset %d: %w", offset, err)
	}
	return err
}

// Properties are the numbers of bits that literals and positions depend on.
type Properties struct {
	LC int // high bits of the byte before, for a literal
	LP int // low bits of the position, for a literal
	PB int // low bits of the position, for the rest
}

// ParseProperties takes them apart as one byte has them: (PB × 5 + LP) × 9 + LC.
func ParseProperties(b byte) (Properties, error) {
	if b >= 9*5*5 {
		return Properties{}, ErrCorrupt
	}
	return Properties{LC: int(b % 9), LP: int(b / 9 % 5), PB: int(b / 45)}, nil
}

// slack is how many bytes a symbol may read beyond those that it needs to be known, and how
// many a copy may write beyond its end.
const (
	slackIn  = 32
	slackOut = 32
)

// decoder has the state of a stream.
type decoder struct {
	model
	Properties
	coder
	state int
	reps  [4]uint32 // the last distances, less one

	window     []byte
	dictionary int  // how far back a match may reach
	start      int  // of what may be referred to, in the window
	pos        int  // end of what was decoded, in the window
	shift      int  // what has to be added to pos for the number of bytes since the dictionary was reset
	owed       int  // bytes of a match that did not fit
	ended      bool // an end mark was met
}

// resetDictionary forgets all that was decoded.
func (d *decoder) resetDictionary() {
	d.start, d.shift = d.pos, -d.pos
}

// resetState makes the models even again.
func (d *decoder) resetState() {
	d.model.reset(1 << (d.LC + d.LP))
	d.state, d.reps, d.owed, d.ended = 0, [4]uint32{}, 0, false
}

// begin starts the range coder with five bytes, the first of which is zero.
func (d *decoder) begin(b []byte) error {
	d.coder = coder{span: 1<<32 - 1, code: binary.BigEndian.Uint32(b[1:])}
	if b[0] != 0 || d.code == d.span {
		return ErrCorrupt
	}
	return nil
}

// room makes room for n more bytes in the window. What was decoded and not taken must have
// been taken.
func (d *decoder) room(n int) {
	need := d.pos + n + slackOut
	if need <= len(d.window) {
		return
	}
	keep := min(d.pos-d.start, d.dictionary)
	// It grows with what is decoded: what a header asks for is only a claim. In the end it
	// has room for so much more than the dictionary that moving that to its start costs little.
	most := d.dictionary + max(n, d.dictionary/2, min(d.dictionary, 16<<20)) + slackOut
	if len(d.window) < keep+n+slackOut || len(d.window) < most && 2*keep > len(d.window) {
		grown := make([]byte, max(keep+n+slackOut, min(most, 2*len(d.window))))
		copy(grown, d.window[d.pos-keep:d.pos])
		d.window = grown
	} else {
		copy(d.window, d.window[d.pos-keep:d.pos])
	}
	d.shift += d.pos - keep
	d.start, d.pos = 0, keep
}

// afterLiteral is the state that comes after one.
var afterLiteral = [states]uint8{0, 0, 0, 0, 1, 2, 3, 4, 5, 6, 4, 5}

// run decodes symbols until the window is filled up to limit, the input has been used up to
// end or beyond, or an end mark comes. Behind end there are slackIn bytes, of any value: if
// they are none of the input, what has used them makes no sense.
func (d *decoder) run(in []byte, end, limit int) error {
	if d.owed > 0 {
		n := min(d.owed, limit-d.pos)
		d.copyMatch(int(d.reps[0])+1, n)
		d.owed -= n
	}
	var (
		m       = &d.model
		c       = d.coder
		window  = d.window
		pos     = d.pos
		shift   = d.shift
		state   = d.state
		rep0    = d.reps[0]
		rep1    = d.reps[1]
		rep2    = d.reps[2]
		rep3    = d.reps[3]
		posMask = 1<<d.PB - 1
		litMask = 1<<d.LP - 1
		lc      = d.LC
		err     error
		bit     uint32
	)
	for pos < limit && c.at <= end {
		place := (pos + shift) & posMask
		if c, bit = c.refill(in).bit(&m.isMatch[state<<4|place]); bit == 0 {
			before := 0
			if pos > d.start {
				before = int(window[pos-1])
			}
			context := ((pos+shift)&litMask)<<lc | before>>(8-lc)
			probs := (*[literalSize]uint16)(m.literal[context*literalSize:])
			var symbol uint32
			if state < firstMatched {
				c, symbol = c.literal(in, probs)
			} else {
				if rep0 >= uint32(min(pos-d.start, d.dictionary)) {
					err = ErrCorrupt
					break
				}
				c, symbol = c.matched(in, probs, uint32(window[pos-int(rep0)-1]))
			}
			window[pos] = byte(symbol)
			pos++
			state = int(afterLiteral[state])
			continue
		}
		var l *lengths
		if c, bit = c.refill(in).bit(&m.isRep[state]); bit == 0 {
			rep3, rep2, rep1 = rep2, rep1, rep0
			l = &m.match
		} else {
			l = &m.rep
			if c, bit = c.refill(in).bit(&m.isRep0[state]); bit == 0 {
				if c, bit = c.refill(in).bit(&m.isRep0Long[state<<4|place]); bit == 0 {
					if rep0 >= uint32(min(pos-d.start, d.dictionary)) {
						err = ErrCorrupt
						break
					}
					window[pos] = window[pos-int(rep0)-1]
					pos++
					state = 9 + state/firstMatched*2
					continue
				}
			} else if c, bit = c.refill(in).bit(&m.isRep1[state]); bit == 0 {
				rep0, rep1 = rep1, rep0
			} else if c, bit = c.refill(in).bit(&m.isRep2[state]); bit == 0 {
				rep0, rep1, rep2 = rep2, rep0, rep1
			} else {
				rep0, rep1, rep2, rep3 = rep3, rep0, rep1, rep2
			}
		}
		var length uint32
		if c, bit = c.refill(in).bit(&l.choice); bit == 0 {
			c, length = c.tree(in, l.low[place][:])
			length -= lowLengths - leastMatch
		} else if c, bit = c.refill(in).bit(&l.choice2); bit == 0 {
			c, length = c.tree(in, l.mid[place][:])
			length += leastMatch
		} else {
			c, length = c.tree(in, l.high[:])
			length -= highLengths - lowLengths - midLengths - leastMatch
		}
		if l == &m.match {
			var slot, low uint32
			c, slot = c.tree(in, m.slot[min(length-leastMatch, lengthKinds-1)][:])
			slot -= slots
			rep0 = slot
			if slot >= firstDirect {
				n := slot>>1 - 1
				rep0 = (2 | slot&1) << n
				if slot < endDirect {
					c, low = c.reverse(in, m.special[rep0-slot:], n)
				} else {
					c, low = c.direct(in, n-alignBits)
					rep0 += low << alignBits
					c, low = c.reverse(in, m.align[:], alignBits)
				}
				rep0 += low
			}
			if rep0 == 1<<32-1 {
				d.ended = true
				break
			}
			state = 7 + state/firstMatched*3
		} else {
			state = 8 + state/firstMatched*3
		}
		if rep0 >= uint32(min(pos-d.start, d.dictionary)) {
			err = ErrCorrupt
			break
		}
		n := int(length)
		if n > limit-pos {
			d.owed = n - (limit - pos)
			n = limit - pos
		}
		d.pos = pos
		d.copyMatch(int(rep0)+1, n)
		pos = d.pos
	}
	d.coder, d.pos, d.state = c, pos, state
	d.reps = [4]uint32{rep0, rep1, rep2, rep3}
	return err
}

// copyMatch copies n bytes from so far back. It may write a few bytes beyond.
func (d *decoder) copyMatch(distance, n int) {
	window, to := d.window, d.pos
	from := to - distance
	d.pos += n
	switch {
	case distance >= 8:
		for i := 0; i < n; i += 8 {
			binary.LittleEndian.PutUint64(window[to+i:], binary.LittleEndian.Uint64(window[from+i:]))
		}
	case distance == 1:
		b := uint64(window[from]) * 0x0101010101010101
		for i := 0; i < n; i += 8 {
			binary.LittleEndian.PutUint64(window[to+i:], b)
		}
	default:
		for i := range n {
			window[to+i] = window[from+i]
		}
	}
}
