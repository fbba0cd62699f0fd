package early

import (
	mathbits "math/bits"

	"widecrate/core/codec/bits"
)

// reduceEscape starts a match in what the followers give (5.2.5).
const reduceEscape = 144

type reduced struct {
	lengthBits uint // of the byte behind an escape, those that are of the length
	ready      bool // the followers were read
	followers  [256][]byte
	width      [256]uint // of a number of a follower
	last       byte
}

// NewReduce decodes what was reduced (5.2) with a factor from 1 to 4: matches, in a text of which
// each byte is a number in the list of those that often follow the one before it.
func NewReduce(src bits.Source, size int64, factor int) *Decoder {
	r := &reduced{lengthBits: uint(8 - factor)}
	return newDecoder(src, size, r.step)
}

func (r *reduced) step(d *Decoder) error {
	if !r.ready {
		r.ready = true
		if err := r.readFollowers(d); err != nil {
			return err
		}
	}
	c, err := r.next(d)
	if err != nil {
		return err
	}
	if c != reduceEscape {
		d.put(c)
		return nil
	}
	v, err := r.next(d)
	if err != nil {
		return err
	}
	if v == 0 {
		d.put(reduceEscape)
		return nil
	}
	mask := byte(1)<<r.lengthBits - 1
	length := int(v & mask)
	if v&mask == mask {
		more, err := r.next(d)
		if err != nil {
			return err
		}
		length += int(more)
	}
	low, err := r.next(d)
	if err != nil {
		return err
	}
	d.match(int(v>>r.lengthBits)<<8+int(low)+1, length+3)
	return nil
}

// readFollowers reads the lists (5.2.2), that of the last byte first.
func (r *reduced) readFollowers(d *Decoder) error {
	for c := 255; c >= 0; c-- {
		count, err := d.in.Take(6)
		if err != nil {
			return err
		}
		list := make([]byte, count)
		for i := range list {
			b, err := d.in.Take(8)
			if err != nil {
				return err
			}
			list[i] = byte(b)
		}
		r.followers[c] = list
		if count > 0 {
			r.width[c] = max(1, uint(mathbits.Len32(count-1)))
		}
	}
	return nil
}

// next is the next byte of the text with the matches in it (5.2.3).
func (r *reduced) next(d *Decoder) (byte, error) {
	list := r.followers[r.last]
	if len(list) > 0 {
		plain, err := d.in.Take(1)
		if err != nil {
			return 0, err
		}
		if plain == 0 {
			number, err := d.in.Take(r.width[r.last])
			if err != nil {
				return 0, err
			}
			if int(number) >= len(list) {
				return 0, errNoCode
			}
			r.last = list[number]
			return r.last, nil
		}
	}
	c, err := d.in.Take(8)
	r.last = byte(c)
	return r.last, err
}
