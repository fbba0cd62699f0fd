package source

import (
	"bytes"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/unicode"

	"widecrate/core/fault"
)

// ReadList reads names, one a line, or with a NUL after each. The text is in
// UTF-8 or UTF-16, with or without a mark; lines end in LF or CRLF, and empty
// ones do not count. One without any is of kind fault.Usage: somebody forgot to fill it.
func ReadList(r io.Reader, null bool) ([]string, error) {
	raw, err := io.ReadAll(r)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	text, err := decodeText(raw, null)
	if err != nil {
		return nil, err
	}
	separator := "\n"
	if null {
		separator = "\x00"
	}
	var names []string
	for line := range strings.SplitSeq(text, separator) {
		if !null {
			line = strings.TrimSuffix(line, "\r")
		}
		if line != "" {
			names = append(names, line)
		}
	}
	if names == nil {
		return nil, fault.New(fault.Usage, "the list is empty")
	}
	return names, nil
}

// decodeText tells UTF-16 by its mark, or by the zero in every ASCII character.
func decodeText(raw []byte, null bool) (string, error) {
	var decoder *encoding.Decoder
	utf16 := func(order unicode.Endianness) *encoding.Decoder {
		return unicode.UTF16(order, unicode.UseBOM).NewDecoder()
	}
	switch {
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		decoder = utf16(unicode.LittleEndian)
	case len(raw) >= 4 && len(raw)%2 == 0 && raw[0] != 0 && raw[1] == 0 && (!null || raw[3] == 0):
		decoder = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder()
	case len(raw) >= 4 && len(raw)%2 == 0 && raw[0] == 0 && raw[1] != 0:
		decoder = unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewDecoder()
	default:
		raw = bytes.TrimPrefix(raw, []byte("\ufeff"))
		if !utf8.Valid(raw) {
			return "", fault.New(fault.Usage, "the list is neither UTF-8 nor UTF-16")
		}
		return string(raw), nil
	}
	text, err := decoder.Bytes(raw)
	if err != nil {
		return "", fault.New(fault.Usage, "the list is not UTF-16: %w", err)
	}
	return string(text), nil
}
