package report

import (
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"iter"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/charset"
	"widecrate/core/choose"
	"widecrate/core/fault"
)

// Listed is what the entries of one archive that are kept come to.
type Listed struct {
	Archive  string             `json:"archive"`
	Bytes    int64              `json:"bytes"` // of the archive itself
	Files    int                `json:"files"`
	Size     int64              `json:"size"`
	Packed   int64              `json:"packed"`
	LeftOut  choose.Tally       `json:"left_out,omitzero"`
	Remarks  archive.RemarkList `json:"remarks,omitzero"` // how the archive was read
	Together bool               `json:"-"`                // some are compressed together, so that no packed size is theirs
	Err      error              `json:"-"`                // why the archive could not be looked into; then nothing else counts
}

// Count takes an entry into account.
func (l *Listed) Count(e *archive.Entry) {
	if e.Kind != archive.Folder {
		l.Files++
		l.Size = archive.Plus(l.Size, e.Size)
		l.Packed = archive.Plus(l.Packed, e.Packed)
		l.Together = l.Together || e.Packed == archive.Unknown
	}
}

// Add takes the entries of another archive into account.
func (l *Listed) Add(other *Listed) {
	l.Files += other.Files
	l.Size = archive.Plus(l.Size, other.Size)
	l.Packed = archive.Plus(l.Packed, other.Packed)
	l.Together = l.Together || other.Together
	l.LeftOut.Add(other.LeftOut)
}

// Lines are one; those of the entries are made by AppendEntry.
func (l *Listed) Lines() iter.Seq[Line] {
	var fields any = l
	if l.Together {
		fields = struct {
			*Listed
			Packed *int64 `json:"packed"`
		}{l, nil}
	}
	return one(Line{"archive", fields, l.Err})
}

// Fields are the values of an entry as scripts get them; nil for one that it has
// not.
type Fields struct{ Modified, Mode, CRC32 []byte }

// FieldsOf returns them.
func FieldsOf(e *archive.Entry) (f Fields) {
	if !e.Modified.IsZero() {
		f.Modified = e.Modified.AppendFormat(make([]byte, 0, 32), time.RFC3339)
	}
	if e.HasMode {
		f.Mode = []byte{'0', '0' + byte(e.Mode>>6&7), '0' + byte(e.Mode>>3&7), '0' + byte(e.Mode&7)}
	}
	if e.HasCRC32 {
		f.CRC32 = hex.AppendEncode(make([]byte, 0, 8), binary.BigEndian.AppendUint32(make([]byte, 0, 4), e.CRC32))
	}
	return f
}

// AppendEntry appends the line of JSON for an entry of a listing, of which there
// may be millions: it is written out by hand.
// can be a million: in the archive that is called in, and of a series in that member of it.
func AppendEntry(b []byte, in, member string, e *archive.Entry, link string, unsafe bool) []byte {
	text := func(key string, value []byte) {
		if value != nil {
			b = append(append(append(b, key...), value...), '"')
		}
	}
	f := FieldsOf(e)
	b = appendName(append(b, `{"kind":"entry"`...), "archive", in)
	b = appendName(b, "path", e.Path)
	b = append(append(b, `,"type":"`...), e.Kind.String()...)
	b = appendSize(append(b, `","size":`...), e.Size)
	b = appendSize(append(b, `,"packed":`...), e.Packed)
	text(`,"modified":"`, f.Modified)
	text(`,"mode":"`, f.Mode)
	b = appendText(append(b, `,"method":`...), e.Method)
	text(`,"crc32":"`, f.CRC32)
	b = strconv.AppendBool(append(b, `,"encrypted":`...), e.Encrypted)
	if unsafe {
		b = append(b, `,"unsafe":true`...)
	}
	if link != "" {
		b = appendName(b, "link", link)
	}
	if member != "" {
		b = appendName(b, "member", member)
	}
	return append(b, "}\n"...)
}

// appendSize appends a size, null where the archive does not record it.
func appendSize(b []byte, size int64) []byte {
	if size == archive.Unknown {
		return append(b, "null"...)
	}
	return strconv.AppendInt(b, size, 10)
}

// appendName appends a field, with its bytes beside it where Marshal would.
func appendName(b []byte, key, s string) []byte {
	b = appendText(append(append(append(b, `,"`...), key...), `":`...), s)
	if !utf8.ValidString(s) {
		b = append(append(append(b, `,"`...), key...), besideText+`":"`...)
		b = append(base64.StdEncoding.AppendEncode(b, []byte(s)), '"')
	}
	return b
}

// appendText appends a string of JSON. Most are plain, and need no encoder.
func appendText(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			text, _ := json.Marshal(s) // a string is always possible
			return append(b, text...)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

// Readings are what the names of an archive would be in several encodings, where they do not say
// theirs.
type Readings struct {
	Archive  string            `json:"archive"`
	Entries  int               `json:"entries"`
	InDoubt  int               `json:"in_doubt"` // entries whose names do not say their encoding
	Readings []charset.Reading `json:"readings"` // the most likely one first
}

// Lines are one.
func (r *Readings) Lines() iter.Seq[Line] { return one(Line{"readings", r, nil}) }

// Verified is what is known of one archive after it was decoded.
type Verified struct {
	Archive string       `json:"archive"`
	Entries int          `json:"entries"` // files and links that were checked
	Sums    int          `json:"summed"`  // how many of them have a checksum or an authentication code, or one around them, that was checked
	Bytes   int64        `json:"bytes"`   // of their data
	Damaged int          `json:"damaged"`
	Unsafe  int          `json:"unsafe,omitempty"` // entries that extract would refuse
	LeftOut choose.Tally `json:"left_out,omitzero"`
	Took    Took         `json:"seconds"`

	Passwords []int              `json:"passwords,omitempty"` // numbers of the candidates, from 1, that opened it
	Remarks   archive.RemarkList `json:"remarks,omitzero"`    // how the archive was read
	DryRun    bool               `json:"dry_run,omitempty"`   // nothing was checked

	Bad   []Bad    `json:"-"` // what is damaged or unsafe, in the order of the archive
	Files []Packed `json:"-"` // files with their SHA-256, in no order, where they are asked for
	Err   error    `json:"-"` // why the archive could not be gone through; nil if all of it could be
}

// Failure is what is wrong with it, the first; nil: nothing is.
func (v *Verified) Failure() error {
	if v.Err == nil && len(v.Bad) > 0 {
		return v.Bad[0].Err
	}
	return v.Err
}

// Bad is an entry that is not what the archive says, or that extract would refuse: then its
// error is of kind fault.Unsafe.
type Bad struct {
	Archive string `json:"archive"`
	Path    string `json:"path"`
	Offset  int64  `json:"offset"` // of its header
	Err     error  `json:"-"`
}

// Fail takes note of an entry that is damaged or unsafe.
func (v *Verified) Fail(e *archive.Entry, err error) {
	if fault.Of(err) == fault.Unsafe {
		v.Unsafe++
	} else {
		v.Damaged++
	}
	at, _ := slices.BinarySearchFunc(v.Bad, e.Offset, func(b Bad, offset int64) int { return cmp.Compare(b.Offset, offset) })
	v.Bad = slices.Insert(v.Bad, at, Bad{v.Archive, e.Path, e.Offset, fault.At(v.Archive, fault.At(e.Path, err))})
}

// Lines are one for each entry that is damaged or unsafe, then one for the archive.
func (v *Verified) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for i := range v.Bad {
			kind := "damaged"
			if fault.Of(v.Bad[i].Err) == fault.Unsafe {
				kind = "unsafe"
			}
			if !yield(Line{kind, &v.Bad[i], v.Bad[i].Err}) {
				return
			}
		}
		yield(Line{"archive", v, v.Err})
	}
}

// Status is how an entry of one side of a comparison relates to the other.
type Status uint8

// The statuses.
const (
	OnlyA Status = iota
	OnlyB
	Different
)

var statusNames = [...]string{"only in A", "only in B", "different"}

func (s Status) String() string { return statusNames[s] }

// MarshalText gives the name, in JSON too.
func (s Status) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Difference is a path that is not the same on both sides.
type Difference struct {
	Path   string `json:"path"`
	Status Status `json:"status"`
	What   string `json:"what,omitempty"`   // what differs: kind, size, content, link or time
	SizeA  *int64 `json:"size_a,omitempty"` // nil: that side has it not
	SizeB  *int64 `json:"size_b,omitempty"`
}

// Compared is what a comparison comes to.
type Compared struct {
	A           string       `json:"a"`
	B           string       `json:"b"`
	Same        int          `json:"same"`
	Different   int          `json:"different"`
	Unread      int          `json:"unread,omitempty"` // of those that are the same: by checksums alone that an archive, or a receipt, has of them
	OnlyA       int          `json:"only_a"`
	OnlyB       int          `json:"only_b"`
	LeftOut     choose.Tally `json:"left_out,omitzero"`
	PeeledA     string       `json:"peeled_a,omitempty"` // the one folder of a side, which the other has not, and which was dropped
	PeeledB     string       `json:"peeled_b,omitempty"`
	Differences []Difference `json:"-"` // in natural order of the paths
	Err         error        `json:"-"`
}

// Alone reports whether there is nothing on one side to compare with.
func (c *Compared) Alone() bool { return c.A == "" || c.B == "" }

// Differ reports whether anything is not the same.
func (c *Compared) Differ() bool { return len(c.Differences) > 0 || c.Alone() }

// Add takes note of a difference.
func (c *Compared) Add(d Difference) {
	c.Differences = append(c.Differences, d)
	switch d.Status {
	case OnlyA:
		c.OnlyA++
	case OnlyB:
		c.OnlyB++
	case Different:
		c.Different++
	}
}

// Lines are one for each difference, then one for all.
func (c *Compared) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for i := range c.Differences {
			if !yield(Line{"difference", &c.Differences[i], nil}) {
				return
			}
		}
		yield(Line{"comparison", c, c.Err})
	}
}

// CompareEnded is what the comparison of several pairs came to.
type CompareEnded struct {
	Same      int `json:"same"`
	Different int `json:"different"`
	Alone     int `json:"alone"` // on one side only
	Failed    int `json:"failed"`
}

// Lines are one.
func (e *CompareEnded) Lines() iter.Seq[Line] { return one(Line{"totals", e, nil}) }
