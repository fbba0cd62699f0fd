package early

import (
	"errors"
	"math/bits"
	"slices"

	codecbits "widecrate/core/codec/bits"
)

// A Layout is how data was imploded, which flags of its entry say (4.4.4).
type Layout struct {
	Large    bool // a window of 8 KiB instead of 4
	Literals bool // literals have codes, too
}

const longestCode = 16

// code is a table of all that can be next: the value and the number of its bits.
type code struct {
	table []uint16 // value<<5 | bits
	bits  uint     // that an index has
}

type imploded struct {
	Layout
	ready                        bool
	literals, lengths, distances code
}

// NewImplode decodes what was imploded (5.3): literals and matches in Shannon-Fano codes.
func NewImplode(src codecbits.Source, size int64, layout Layout) *Decoder {
	m := &imploded{Layout: layout}
	return newDecoder(src, size, m.step)
}

func (m *imploded) step(d *Decoder) error {
	if !m.ready {
		m.ready = true
		if err := m.readCodes(&d.in); err != nil {
			return err
		}
	}
	literal, err := d.in.Take(1)
	switch {
	case err != nil:
		return err
	case literal == 1 && m.Literals:
		c, err := m.literals.take(&d.in)
		d.put(byte(c))
		return err
	case literal == 1:
		c, err := d.in.Take(8)
		d.put(byte(c))
		return err
	}
	lowBits, least := uint(6), 2
	if m.Large {
		lowBits = 7
	}
	if m.Literals {
		least = 3
	}
	low, err := d.in.Take(lowBits)
	if err != nil {
		return err
	}
	high, err := m.distances.take(&d.in)
	if err != nil {
		return err
	}
	length, err := m.lengths.take(&d.in)
	if err != nil {
		return err
	}
	if length == 63 {
		more, err := d.in.Take(8)
		if err != nil {
			return err
		}
		length += int(more)
	}
	d.match(high<<lowBits+int(low)+1, length+least)
	return nil
}

func (m *imploded) readCodes(in *codecbits.Reader) (err error) {
	if m.Literals {
		if m.literals, err = readCode(in, 256); err != nil {
			return err
		}
	}
	if m.lengths, err = readCode(in, 64); err != nil {
		return err
	}
	m.distances, err = readCode(in, 64)
	return err
}

var errLengths = errors.New("code lengths that make no code")

// readCode reads the lengths of the codes of so many values, in runs (5.3.7), and makes their
// codes (5.3.8).
func readCode(in *codecbits.Reader, values int) (c code, err error) {
	runs, err := in.Take(8)
	if err != nil {
		return c, err
	}
	var lengths []uint
	for range runs + 1 {
		run, err := in.Take(8)
		if err != nil {
			return c, err
		}
		for range run>>4 + 1 {
			lengths = append(lengths, uint(run&15+1))
		}
	}
	if len(lengths) != values {
		return c, errLengths
	}
	c.bits = slices.Max(lengths)
	order := make([]int, values)
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return int(lengths[a]) - int(lengths[b]) })
	c.table = make([]uint16, 1<<c.bits)
	next := 0 // the highest bits of a code of the longest length
	for _, value := range slices.Backward(order) {
		n := lengths[value]
		if next>>longestCode != 0 {
			return c, errLengths
		}
		first := int(bits.Reverse16(uint16(next)))
		for i := first; i < len(c.table); i += 1 << n {
			c.table[i] = uint16(value)<<5 | uint16(n)
		}
		next += 1 << (longestCode - n)
	}
	if next != 1<<longestCode { // some code would stand for nothing
		return c, errLengths
	}
	return c, nil
}

// take decodes a value.
func (c *code) take(in *codecbits.Reader) (int, error) {
	if in.Count < longestCode {
		in.Fill()
	}
	e := c.table[in.Bits&(1<<c.bits-1)]
	n := uint(e & 31)
	if n > in.Count {
		return 0, in.Err()
	}
	in.Drop(n)
	return int(e >> 5), nil
}
