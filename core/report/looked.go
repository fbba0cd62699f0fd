package report

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"iter"
	"strconv"
	"time"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
)

// Listed is what the entries of one archive that are kept come to.
type Listed struct {
	Archive      string
	Bytes        int64 // of the archive itself
	Files        int
	Size, Packed int64
	Together     bool // some are compressed together, so that no packed size is theirs
	LeftOut      choose.Tally
	Err          error // why it could not be looked into; then nothing else counts
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

type listed struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Bytes   int64          `json:"bytes"`
	Files   int            `json:"files"`
	Size    int64          `json:"size"`
	Packed  *int64         `json:"packed"`
	LeftOut map[string]int `json:"left_out,omitempty"`
	Failure *Failure       `json:"failure,omitempty"`
}

// Lines are one; those of the entries are made by AppendEntry.
func (l *Listed) Lines(say fault.Wording) iter.Seq[any] {
	packed := &l.Packed
	if l.Together {
		packed = nil
	}
	return lines(listed{"archive", l.Archive, l.Bytes, l.Files, l.Size, packed, ByRule(l.LeftOut), FailureOf(l.Err, say)})
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
func AppendEntry(b []byte, in string, e *archive.Entry, link string, unsafe bool) []byte {
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

// Verified is what is known of one archive after it was decoded.
type Verified struct {
	Archive string
	Entries int   // files and links that were checked
	Bytes   int64 // of their data
	Sums    int   // how many of them have a checksum, or an authentication code, that was checked
	Locked  int   // entries that no password opens: they are neither sound nor damaged
	LeftOut choose.Tally
	Bad     []Bad    // in the order of the archive
	Files   []Packed // files with their SHA-256, in no order, where they are asked for
	Took    time.Duration
	Err     error // why it could not be gone through; nil if all could be
}

// Bad is an entry that is not what the archive says, or that extract would refuse: then its
// error is of kind fault.Unsafe.
type Bad struct {
	Path   string
	Offset int64 // of its header
	Err    error
}

func (b *Bad) unsafe() bool { return fault.Of(b.Err) == fault.Unsafe }

// damaged is a line for each entry that is damaged, or unsafe.
type damaged struct {
	Kind    string   `json:"kind"`
	Archive string   `json:"archive"`
	Path    string   `json:"path"`
	Offset  int64    `json:"offset"`
	Failure *Failure `json:"failure"`
}

// Unsafe is how many entries extract would refuse.
func (v *Verified) Unsafe() (n int) {
	for i := range v.Bad {
		if v.Bad[i].unsafe() {
			n++
		}
	}
	return n
}

// verified is a line for each archive.
type verified struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Entries int            `json:"entries"`
	Summed  int            `json:"summed"`
	Bytes   int64          `json:"bytes"`
	Damaged int            `json:"damaged"`
	Unsafe  int            `json:"unsafe,omitempty"`
	LeftOut map[string]int `json:"left_out,omitempty"`
	Seconds float64        `json:"seconds"`
	Failure *Failure       `json:"failure,omitempty"`
}

// Lines are one for each entry that is damaged, then one for the archive.
func (v *Verified) Lines(say fault.Wording) iter.Seq[any] {
	return func(yield func(any) bool) {
		for _, b := range v.Bad {
			kind := "damaged"
			if b.unsafe() {
				kind = "unsafe"
			}
			if !yield(damaged{kind, v.Archive, b.Path, b.Offset, FailureOf(b.Err, say)}) {
				return
			}
		}
		yield(verified{"archive", v.Archive, v.Entries, v.Sums, v.Bytes, len(v.Bad) - v.Unsafe(), v.Unsafe(), ByRule(v.LeftOut), v.Took.Seconds(), FailureOf(v.Err, say)})
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

// Difference is a path that is not the same on both sides.
type Difference struct {
	Path         string
	Status       Status
	What         string // what differs: kind, size, content, link or time
	SizeA, SizeB int64  // of the side that has it
}

// difference is a line for each.
type difference struct {
	Kind   string `json:"kind"`
	Path   string `json:"path"`
	Status string `json:"status"`
	What   string `json:"what,omitempty"`
	SizeA  *int64 `json:"size_a,omitempty"`
	SizeB  *int64 `json:"size_b,omitempty"`
}

// Lines are one.
func (d *Difference) Lines(_ fault.Wording) iter.Seq[any] {
	line := difference{Kind: "difference", Path: d.Path, Status: d.Status.String(), What: d.What}
	if d.Status != OnlyB {
		line.SizeA = &d.SizeA
	}
	if d.Status != OnlyA {
		line.SizeB = &d.SizeB
	}
	return lines(line)
}

// Compared is what a comparison comes to.
type Compared struct {
	A, B        string
	Differences []Difference // in natural order of the paths
	Same        int
	LeftOut     choose.Tally
}

// compared is the last line.
type compared struct {
	Kind      string         `json:"kind"`
	A         string         `json:"a"`
	B         string         `json:"b"`
	Same      int            `json:"same"`
	Different int            `json:"different"`
	OnlyA     int            `json:"only_a"`
	OnlyB     int            `json:"only_b"`
	LeftOut   map[string]int `json:"left_out,omitempty"`
}

// Counts is how many differences there are of each status.
func (c *Compared) Counts() (counts [len(statusNames)]int) {
	for _, d := range c.Differences {
		counts[d.Status]++
	}
	return counts
}

// Lines are one for each difference, then one for all.
func (c *Compared) Lines(say fault.Wording) iter.Seq[any] {
	return func(yield func(any) bool) {
		for i := range c.Differences {
			for line := range c.Differences[i].Lines(say) {
				if !yield(line) {
					return
				}
			}
		}
		counts := c.Counts()
		yield(compared{"comparison", c.A, c.B, c.Same, counts[Different], counts[OnlyA], counts[OnlyB], ByRule(c.LeftOut)})
	}
}
