package tar

import (
	"bytes"
	"strconv"
	"strings"

	"widecrate/core/fault"
)

const blockSize = 512

type block [blockSize]byte

var zeroBlock block

// Types of entry, the field typeflag.
const (
	typeFile      = '0'
	typeOldFile   = 0
	typeHardlink  = '1'
	typeSymlink   = '2'
	typeCharacter = '3'
	typeBlock     = '4'
	typeFolder    = '5'
	typePipe      = '6'
	typeReserved  = '7' // a file
	typePax       = 'x'
	typeGlobal    = 'g'
	typeLongName  = 'L' // extensions: the data is the name or link target of the next entry
	typeLongLink  = 'K'
	typeSparse    = 'S' // extension: a file with holes
	typePaxOld    = 'X' // what 'x' was on one system before POSIX had it
	typeListing   = 'D' // extension: a folder, with a list of what was in it
	typeLabel     = 'V' // extension: the name of the volume
	typeRest      = 'M' // extension: the rest of a file that began in the volume before
)

// The fields of a header, by offset and length.
type field struct{ at, length int }

var (
	fieldName     = field{0, 100}
	fieldMode     = field{100, 8}
	fieldUID      = field{108, 8}
	fieldGID      = field{116, 8}
	fieldSize     = field{124, 12}
	fieldModified = field{136, 12}
	fieldChecksum = field{148, 8}
	fieldType     = field{156, 1}
	fieldLink     = field{157, 100}
	fieldMagic    = field{257, 8} // with the version
	fieldPrefix   = field{345, 155}

	// Of the sparse extension, instead of the prefix:
	fieldSparse   = field{386, 4 * 24}
	fieldMore     = field{482, 1}
	fieldRealSize = field{483, 12}
	// and in the blocks that follow it:
	moreSparse = field{0, 21 * 24}
	moreMore   = field{504, 1}
)

const (
	magicPOSIX = "ustar\x0000"
	magicUstar = "ustar\x00"   // of any version: it has a prefix
	magicOld   = "ustar  \x00" // of the extensions: what stands behind it differs
)

func (b *block) bytes(f field) []byte { return b[f.at : f.at+f.length] }

// text is a field up to its first NUL.
func (b *block) text(f field) string {
	raw := b.bytes(f)
	if end := bytes.IndexByte(raw, 0); end >= 0 {
		raw = raw[:end]
	}
	return string(raw)
}

// number decodes an octal field, or one in base 256, whose first bit is set.
func number(raw []byte) (int64, error) {
	if len(raw) > 0 && raw[0]&0x80 != 0 {
		value := int64(raw[0] & 0x7f)
		if raw[0]&0x40 != 0 { // negative, in two's complement
			value |= ^int64(0x7f)
		}
		for _, c := range raw[1:] {
			if value > 1<<54 || value < -1<<54 {
				return 0, strconv.ErrRange
			}
			value = value<<8 | int64(c)
		}
		return value, nil
	}
	text := strings.Trim(string(raw), " \x00")
	if text == "" {
		return 0, nil
	}
	if end := strings.IndexByte(text, 0); end >= 0 {
		text = text[:end]
	}
	return strconv.ParseInt(strings.TrimSpace(text), 8, 64)
}

// IsHeader reports whether a block is a header: its checksum is right, counted
// with or without sign, as old writers did either.
func IsHeader(raw []byte) bool { return len(raw) >= blockSize && raw[0] != 0 && isSummed(raw) }

// isSummed is IsHeader for where a header is due, whose name may be in an extended one.
func isSummed(raw []byte) bool {
	want, err := number(raw[fieldChecksum.at : fieldChecksum.at+fieldChecksum.length])
	if err != nil {
		return false
	}
	unsigned, signed := checksums(raw)
	return want == unsigned || want == signed
}

func checksums(raw []byte) (unsigned, signed int64) {
	for i, c := range raw[:blockSize] {
		if i >= fieldChecksum.at && i < fieldChecksum.at+fieldChecksum.length {
			c = ' '
		}
		unsigned += int64(c)
		signed += int64(int8(c))
	}
	return unsigned, signed
}

func damaged(at int64, format string, args ...any) error {
	return fault.At("header at offset "+strconv.FormatInt(at, 10), fault.New(fault.Damaged, format, args...))
}

// padding is what fills data up to a whole block.
func padding(size int64) int64 { return -size & (blockSize - 1) }
