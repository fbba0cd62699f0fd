package option

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// number is one of at least so much.
type number struct {
	to    *int
	least int
}

func (n *number) Type() string { return "NUMBER" }

func (n *number) String() string {
	if n.to == nil {
		return ""
	}
	return strconv.Itoa(*n.to)
}

func (n *number) Set(text string) error {
	value, err := strconv.Atoi(text)
	if err != nil || value < n.least {
		return fmt.Errorf("it must be a number, at least %d", n.least)
	}
	*n.to = value
	return nil
}

// bounded is a bound that is a number, or a size; 0 stands for none.
type bounded struct {
	to   *int64
	size bool
}

func (b *bounded) Type() string {
	if b.size {
		return "SIZE"
	}
	return "NUMBER"
}

func (b *bounded) String() string {
	switch {
	case b.to == nil || *b.to == 0:
		return ""
	case *b.to == math.MaxInt64:
		return "0"
	}
	return strconv.FormatInt(*b.to, 10)
}

func (b *bounded) Set(text string) error {
	var size Size
	var err error
	if b.size {
		err = size.Set(text)
	} else {
		n := 0
		err = (&number{to: &n}).Set(text)
		size = Size(n)
	}
	if *b.to = int64(size); size == 0 {
		*b.to = math.MaxInt64
	}
	return err
}

// Size is a number of bytes such as 10k, 2.5M or 1G, in powers of 1024, or 10MB, in
// powers of 1000.
type Size int64

func (s *Size) Type() string    { return "SIZE" }
func (s *Size) Words() []string { return nil }

func (s *Size) String() string {
	if *s == 0 {
		return ""
	}
	value, unit := int64(*s), ""
	for _, next := range []string{"k", "M", "G", "T"} {
		if value%1024 != 0 {
			break
		}
		value, unit = value/1024, next
	}
	return strconv.FormatInt(value, 10) + unit
}

// sizeText is a number, a power, and whether it is one of 1000 (10MB) or of 1024
// (10M, 10MiB).
var sizeText = regexp.MustCompile(`^(\d+(?:\.\d+)?) ?([kmgtp]?)(ib|b)?$`)

// Set takes a number with a unit.
func (s *Size) Set(text string) error {
	m := sizeText.FindStringSubmatch(strings.ToLower(text))
	if m == nil || m[2] == "" && m[3] == "ib" {
		return fmt.Errorf("it must be a size such as 500, 10k, 2.5M or 1G; 10MB is 10,000,000")
	}
	base := 1024.0
	if m[3] == "b" {
		base = 1000
	}
	value, err := strconv.ParseFloat(m[1], 64)
	if m[2] != "" {
		value *= math.Pow(base, float64(strings.Index("kmgtp", m[2])+1))
	}
	if err != nil || value > math.MaxInt64/2 {
		return fmt.Errorf("it is more than any file can have")
	}
	*s = Size(value)
	return nil
}
