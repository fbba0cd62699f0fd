// Package charset shows what names that do not say their encoding would be in the encodings of
// older systems, so that a person can choose: nothing in the bytes tells for certain.
package charset

import (
	"slices"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// Raw is the encoding of names that stay as their bytes are.
var Raw encoding.Encoding = encoding.Nop

// candidates are those that were in common use, the most likely first.
var candidates = []struct {
	name string
	encoding.Encoding
}{
	{"cp437", charmap.CodePage437}, {"cp850", charmap.CodePage850}, {"windows-1252", charmap.Windows1252},
	{"cp852", charmap.CodePage852}, {"windows-1250", charmap.Windows1250}, {"cp866", charmap.CodePage866},
	{"windows-1251", charmap.Windows1251}, {"koi8-r", charmap.KOI8R}, {"windows-1253", charmap.Windows1253},
	{"windows-1254", charmap.Windows1254}, {"macintosh", charmap.Macintosh}, {"cp932", japanese.ShiftJIS},
	{"cp936", simplifiedchinese.GBK}, {"cp949", korean.EUCKR}, {"cp950", traditionalchinese.Big5},
}

// Candidates are the names of the encodings that are tried.
func Candidates() (names []string) {
	for _, c := range candidates {
		names = append(names, c.name)
	}
	return names
}

// InDoubt reports whether a name, as its bytes are, is in an encoding that nobody knows.
func InDoubt(raw string) bool { return !utf8.ValidString(raw) }

// A Reading is what names are in some encodings.
type Reading struct {
	Encodings []string `json:"encodings"`
	Names     []string `json:"names"`
}

// Readings are what names, given as their bytes, are in each candidate, without those in which
// one of them is no text. Those whose characters are letters, in words that look like ones, come
// first.
func Readings(raw []string) (readings []Reading) {
	var odd []int
	for _, c := range candidates {
		names, strange, ok := decode(c.Encoding, raw)
		if !ok {
			continue
		}
		same := slices.IndexFunc(readings, func(r Reading) bool { return slices.Equal(r.Names, names) })
		if same >= 0 {
			readings[same].Encodings = append(readings[same].Encodings, c.name)
			continue
		}
		at := len(readings) // behind those that are not stranger
		for at > 0 && odd[at-1] > strange {
			at--
		}
		readings, odd = slices.Insert(readings, at, Reading{[]string{c.name}, names}), slices.Insert(odd, at, strange)
	}
	return readings
}

// decode also counts the characters that are unusual in names.
func decode(from encoding.Encoding, raw []string) (names []string, strange int, ok bool) {
	for _, bytes := range raw {
		name, err := from.NewDecoder().String(bytes)
		if err != nil {
			return nil, 0, false
		}
		before := ' '
		for _, c := range name {
			if max(before, c) >= utf8.RuneSelf && unicode.IsLower(before) && unicode.IsUpper(c) { // in the middle of a word
				strange++
			}
			before = c
			switch {
			case c == utf8.RuneError || unicode.IsControl(c):
				return nil, 0, false
			case c >= utf8.RuneSelf && !unicode.IsLetter(c) && !unicode.IsMark(c):
				strange++
			}
		}
		names = append(names, name)
	}
	return names, strange, true
}
