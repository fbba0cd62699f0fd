package zip

import (
	"bytes"
	"hash/crc32"
	"io/fs"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/fault"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
)

// eachExtra calls visit for each extra field (4.5.1) and stops at one that
// reaches past the end.
func eachExtra(extra []byte, visit func(id uint16, data []byte)) {
	for len(extra) >= 4 {
		id, n := le.Uint16(extra), int(le.Uint16(extra[2:]))
		if 4+n > len(extra) {
			return
		}
		visit(id, extra[4:4+n])
		extra = extra[4+n:]
	}
}

// zip64 hands out the values of a ZIP64 field (4.5.3), in its order.
type zip64 struct{ f fields }

func newZIP64(extra []byte) *zip64 {
	var z zip64
	eachExtra(extra, func(id uint16, data []byte) {
		if id == extraZIP64 {
			z.f.b = data
		}
	})
	return &z
}

// widen replaces a value that stands for "see the ZIP64 field".
func (z *zip64) widen(v *uint64) {
	if *v == max32 {
		*v = z.f.uint64()
	}
}

// names decodes the names of an archive, and notes what it assumed.
type names struct {
	encoding           encoding.Encoding // given; nil: detected
	asUTF8, asCodePage bool              // assumed for some name
	backslashes        bool              // were read as slashes
}

// decode brings a stored name to UTF-8 (appendix D): the flag says UTF-8, or
// the Unicode path field carries it beside the old name. All else should be in
// the code page of the first version, yet many writers just store UTF-8.
func (n *names) decode(stored string, isUTF8 bool, extra []byte) string {
	if ascii(stored) && len(extra) == 0 {
		return stored
	}
	valid := utf8.ValidString(stored)
	if isUTF8 && valid {
		return stored
	}
	name, found := "", false
	eachExtra(extra, func(id uint16, data []byte) {
		// version 1, CRC-32 of the stored name, the name in UTF-8 (4.6.9)
		if id == extraUnicodePath && len(data) > 5 && data[0] == 1 &&
			le.Uint32(data[1:]) == crc32.ChecksumIEEE([]byte(stored)) && utf8.Valid(data[5:]) {
			name, found = string(data[5:]), true
		}
	})
	switch {
	case found: // whatever the stored name is: a writer may have put marks for what it cannot hold
		return name
	case ascii(stored):
		return stored
	case n.encoding != nil:
		if decoded, err := n.encoding.NewDecoder().String(stored); err == nil {
			return decoded
		}
	case valid:
		n.asUTF8 = true
		return stored
	}
	n.asCodePage = true
	name, err := charmap.CodePage437.NewDecoder().String(stored)
	if err != nil { // a table of 256 characters decodes everything
		panic(err)
	}
	return name
}

// unslash reads a backslash as a slash where a writer, against 4.4.17, knew no
// other: on a system where it cannot be part of a name.
func (n *names) unslash(name string, host uint16) string {
	const dos, ntfs, vfat = 0, 10, 14
	if host != dos && host != ntfs && host != vfat || !strings.Contains(name, `\`) || strings.Contains(name, "/") {
		return name
	}
	n.backslashes = true
	return strings.ReplaceAll(name, `\`, "/")
}

func (n *names) remarks() []archive.Remark {
	var list []archive.Remark
	if n.asUTF8 {
		list = append(list, archive.Remark{Text: "names that do not say their encoding were taken for UTF-8"})
	}
	if n.asCodePage {
		list = append(list, archive.Remark{Text: "names that do not say their encoding were taken for code page 437", Hint: fault.NameEncoding, Reported: true})
	}
	if n.backslashes {
		list = append(list, archive.Remark{Text: "backslashes in names were read as slashes"})
	}
	return list
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// modified returns the best time that a header has: that of the NTFS field
// (100 ns), of the extended timestamp (1 s), or the date and time of 4.4.6,
// which count two seconds and tell no zone.
func modified(date, clock uint16, extra []byte, zone *time.Location) time.Time {
	var best time.Time
	eachExtra(extra, func(id uint16, data []byte) {
		switch {
		case id == extraNTFS && len(data) >= 32 && le.Uint16(data[4:]) == 1:
			best = ntfsTime(le.Uint64(data[8:]))
		case id == extraTimestamp && len(data) >= 5 && data[0]&1 != 0 && best.IsZero():
			best = time.Unix(int64(int32(le.Uint32(data[1:]))), 0)
		}
	})
	if !best.IsZero() {
		return best
	}
	year, month, day := int(date>>9)+1980, int(date>>5&15), int(date&31)
	if month < 1 || month > 12 || day < 1 {
		return time.Time{}
	}
	return time.Date(year, time.Month(month), day, int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0, zone)
}

// also is what extra fields record besides.
func also(extra []byte) (facts archive.Facts) {
	eachExtra(extra, func(id uint16, data []byte) {
		switch id {
		case extraNTFS:
			facts |= archive.Times
		case extraTimestamp:
			if len(data) > 0 && data[0]&6 != 0 { // of access and creation, in the local header
				facts |= archive.Times
			}
		case extraUnix:
			facts |= archive.Times | archive.Owner
		case extraUnixOwner:
			if len(bytes.Trim(data[min(2, len(data)):], "\x00\x04")) > 0 { // version, and twice a length with so many bytes
				facts |= archive.Owner
			}
		case extraRights:
			facts |= archive.Attributes
		}
	})
	return facts
}

// holdsTime reports whether a header can hold a time: in the field of 32 bits, or as date and
// clock (4.4.6).
func holdsTime(t time.Time) bool {
	seconds := t.Unix()
	return t.IsZero() || seconds == int64(int32(seconds)) || t.Year() >= 1980 && t.Year() <= 2107
}

// ntfsTime converts a count of 100 ns since 1601 (4.5.5).
func ntfsTime(ticks uint64) time.Time {
	const perSecond, from1601 = 10_000_000, 11_644_473_600
	return time.Unix(int64(ticks/perSecond)-from1601, int64(ticks%perSecond)*100)
}

// dosTime is the inverse of the last case of modified, held within its range.
func dosTime(t time.Time) (date, clock uint16) {
	switch {
	case t.Year() < 1980:
		return 1<<5 | 1, 0
	case t.Year() > 2107:
		return 127<<9 | 12<<5 | 31, 23<<11 | 59<<5 | 29
	}
	return uint16((t.Year()-1980)<<9 | int(t.Month())<<5 | t.Day()),
		uint16(t.Hour()<<11 | t.Minute()<<5 | t.Second()/2)
}

func permissions(unixMode uint32) fs.FileMode { return fs.FileMode(unixMode) & fs.ModePerm }

func quote(path string) string { return strconv.Quote(path) }
