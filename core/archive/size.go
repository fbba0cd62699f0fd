package archive

import "math"

// LargestSize is the largest that anything in an archive is believed to have, in bytes: no
// file system holds more, and a few of them added up do not overflow.
const LargestSize = 1 << 60

// Plus adds what archives claim, of which there may be very many: what is too large for a
// number stays the largest that there is, and what is not known counts nothing.
func Plus(sum, claimed int64) int64 {
	switch {
	case claimed <= 0:
		return sum
	case sum > math.MaxInt64-claimed:
		return math.MaxInt64
	}
	return sum + claimed
}
