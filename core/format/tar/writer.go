package tar

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// Writer writes a tar: ustar headers, and in front of an entry that they cannot
// describe an extended one.
type Writer struct {
	out *bufio.Writer
}

// NewWriter starts an archive.
func NewWriter(w io.Writer) *Writer { return &Writer{bufio.NewWriterSize(w, 256<<10)} }

// Add writes one entry; see archive.Writer. The size of a file must be known:
// data that disagrees with it is of kind fault.Unreadable.
func (w *Writer) Add(e archive.Entry, content io.Reader) (archive.Entry, error) {
	h := header{Entry: e, name: e.Path}
	switch e.Kind {
	case archive.File:
		h.kind, h.size = typeFile, e.Size
	case archive.Folder:
		h.kind = typeFolder
		h.name += "/"
	case archive.Symlink:
		h.kind = typeSymlink
	case archive.Hardlink:
		h.kind = typeHardlink
	default:
		return e, fault.New(fault.Usage, "a tar of ours cannot hold a %s", e.Kind)
	}
	if e.Path == "" || strings.ContainsRune(e.Path+e.Link, 0) {
		return e, fault.New(fault.Usage, "a tar cannot hold the path %q", e.Path)
	}
	if h.size < 0 {
		return e, fault.New(fault.Usage, "a tar needs the size of a file before its data")
	}
	if err := w.write(h.encode()); err != nil {
		return e, err
	}
	e.Method, e.Size, e.Packed = codec.Store, h.size, h.size+padding(h.size)
	if h.kind != typeFile {
		return e, nil
	}
	n, err := io.Copy(w.out, io.LimitReader(content, h.size))
	if err != nil {
		return e, err
	}
	more, err := content.Read(make([]byte, 1))
	if err != nil && err != io.EOF {
		return e, err // that error knows better what is wrong
	}
	if n != h.size || more > 0 {
		return e, fault.New(fault.Unreadable, "it changed while it was read: %d bytes at first, %d now", h.size, n+int64(more))
	}
	return e, w.write(zeroBlock[:padding(h.size)])
}

// Abort does nothing: a Writer has no goroutines.
func (w *Writer) Abort() {}

// Close writes the end of the archive: two blocks of zeros.
func (w *Writer) Close() error {
	if err := w.write(make([]byte, 2*blockSize)); err != nil {
		return err
	}
	return fault.Writing("", w.out.Flush())
}

func (w *Writer) write(b []byte) error {
	_, err := w.out.Write(b)
	return fault.Writing("", err)
}

// header is an entry on its way to its blocks.
type header struct {
	archive.Entry
	name string // with the '/' of a folder
	kind byte
	size int64
}

// encode returns the header blocks: an extended header where it is needed, and
// the one of the entry.
func (h *header) encode() []byte {
	records := ""
	name, prefix, fits := splitName(h.name)
	if !fits {
		records += record(recordPath, h.name)
		name, prefix = asciiTail(h.name), ""
	}
	link := h.Link
	if len(link) > fieldLink.length || !isASCII(link) {
		records += record(recordLink, link)
		link = asciiTail(link)
	}
	if h.size > largest(fieldSize) {
		records += record(recordSize, strconv.FormatInt(h.size, 10))
	}
	modified := h.Modified
	if modified.IsZero() {
		modified = time.Unix(0, 0)
	}
	if modified.Nanosecond() != 0 || modified.Unix() < 0 || modified.Unix() > largest(fieldModified) {
		records += record(recordModified, formatTime(modified))
	}
	mode := h.Mode & fs.ModePerm
	if !h.HasMode {
		mode = 0o644
		if h.kind == typeFolder {
			mode = 0o755
		}
	}
	if !utf8.ValidString(h.name) || !utf8.ValidString(h.Link) { // they are not in the encoding that records are in
		records = record(recordCharset, charsetBinary) + records
	}
	var out []byte
	if records != "" {
		out = append(out, ustar(typePax, "pax/"+asciiTail(h.name), "", "", 0o644, int64(len(records)), max(modified.Unix(), 0))...)
		out = append(out, records...)
		out = append(out, zeroBlock[:padding(int64(len(records)))]...)
	}
	return append(out, ustar(h.kind, name, prefix, link, mode, h.size, modified.Unix())...)
}

// ustar encodes one header block.
func ustar(kind byte, name, prefix, link string, mode fs.FileMode, size, modified int64) []byte {
	var b block
	copy(b.bytes(fieldName), name)
	copy(b.bytes(fieldPrefix), prefix)
	copy(b.bytes(fieldLink), link)
	copy(b.bytes(fieldMagic), magicPOSIX)
	b.bytes(fieldType)[0] = kind
	b.octal(fieldMode, int64(mode))
	b.octal(fieldUID, 0)
	b.octal(fieldGID, 0)
	b.octal(fieldSize, min(size, largest(fieldSize)))
	b.octal(fieldModified, min(max(modified, 0), largest(fieldModified)))
	sum, _ := checksums(b[:])
	copy(b.bytes(fieldChecksum), fmt.Sprintf("%06o\x00 ", sum))
	return b[:]
}

// octal fills a field with digits and a NUL.
func (b *block) octal(f field, value int64) {
	copy(b.bytes(f), fmt.Sprintf("%0*o\x00", f.length-1, value))
}

// largest is what fits into an octal field.
func largest(f field) int64 { return 1<<(3*(f.length-1)) - 1 }

// splitName divides a path between the name and the prefix.
func splitName(path string) (name, prefix string, fits bool) {
	if !isASCII(path) {
		return "", "", false
	}
	if len(path) <= fieldName.length {
		return path, "", true
	}
	// The last '/' that leaves a name, not counting that of a folder.
	for at := min(len(path)-2, fieldPrefix.length); at > 0; at-- {
		if path[at] == '/' && len(path)-at-1 <= fieldName.length {
			return path[at+1:], path[:at], true
		}
	}
	return "", "", false
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// asciiTail stands in the header for a name that only the extended one can
// hold, for readers that do not know those.
func asciiTail(path string) string {
	b := []byte(path)
	for i, c := range b {
		if c >= 0x80 {
			b[i] = '_'
		}
	}
	const room = 90
	return string(b[max(0, len(b)-room):])
}

// record encodes an extended record, whose length counts itself.
func record(key, value string) string {
	rest := len(key) + len(value) + 3 // ' ', '=' and the line end
	length := rest + len(strconv.Itoa(rest))
	if n := rest + len(strconv.Itoa(length)); n != length {
		length = n
	}
	return fmt.Sprintf("%d %s=%s\n", length, key, value)
}

// formatTime writes seconds with as much of a fraction as there is.
func formatTime(t time.Time) string {
	seconds, nanoseconds := t.Unix(), int64(t.Nanosecond())
	sign := ""
	if seconds < 0 && nanoseconds > 0 { // -1.25 is 0.75 after -2
		seconds, nanoseconds = -(seconds + 1), 1e9-nanoseconds
		sign = "-"
	}
	text := fmt.Sprintf("%s%d.%09d", sign, seconds, nanoseconds)
	return strings.TrimRight(strings.TrimRight(text, "0"), ".")
}
