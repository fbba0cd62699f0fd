package tar

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Raw returns the header blocks of the current entry as they are in the archive,
// so that it can be copied with all that they say; nil for a sparse file, and a
// folder with a list, of which more than the headers would have to be copied. They are valid until the
// next entry.
func (s *Stream) Raw() []byte {
	if s.m == nil || s.m.pieces != nil || s.m.list || s.m.Size != s.m.stored {
		return nil
	}
	return s.raw
}

// Global returns the global extended headers that stand before the current entry, as they
// are in the archive: they count for all entries after them. They are valid until the next
// entry.
func (s *Stream) Global() []byte { return s.before }

// AddRaw writes an entry with headers from another archive, and its data.
func (w *Writer) AddRaw(raw []byte, size int64, content io.Reader) error {
	if err := w.write(raw); err != nil {
		return err
	}
	n, err := io.Copy(w.out, content)
	if err != nil {
		return err
	}
	if n != size {
		return fault.New(fault.Damaged, "its data has %d bytes where its header says %d", n, size)
	}
	return w.write(zeroBlock[:padding(size)])
}

// Rename returns header blocks for an entry under another path, and of a link with
// another target. What else they say stays; long names of the old kind
// become extended records.
func Rename(raw []byte, e archive.Entry, path, link string) ([]byte, error) {
	h, err := parseRaw(raw, e, link)
	if err != nil {
		return nil, err
	}
	if e.Kind == archive.Folder {
		path += "/"
	}
	delete(h.records, recordPath)
	if e.Kind == archive.Hardlink || e.Kind == archive.Symlink && link != e.Link {
		h.setLink(link)
	}
	h.setPath(path)
	sum, _ := checksums(h.last[:])
	copy(h.last.bytes(fieldChecksum), fmt.Sprintf("%06o\x00 ", sum))
	return h.encode(path), nil
}

// rawHeader is what the header blocks of an entry are made of.
type rawHeader struct {
	global  []byte            // global extended headers, as they are
	records map[string]string // of the extended ones
	last    block             // the header itself
}

// parseRaw takes header blocks apart. A long link of the old kind becomes a record
// of the new one.
func parseRaw(raw []byte, e archive.Entry, link string) (*rawHeader, error) {
	h := &rawHeader{records: map[string]string{}}
	for rest := raw; len(rest) >= blockSize; {
		h.last = block(rest[:blockSize])
		rest = rest[blockSize:]
		kind := h.last.bytes(fieldType)[0]
		if kind != typePax && kind != typeGlobal && kind != typeLongName && kind != typeLongLink {
			break
		}
		size, err := number(h.last.bytes(fieldSize))
		if err != nil || size < 0 || size+padding(size) > int64(len(rest)) {
			return nil, damaged(e.Offset, "its extended header is cut off")
		}
		switch kind {
		case typeGlobal:
			h.global = append(append(h.global, h.last[:]...), rest[:size+padding(size)]...)
		case typeLongLink:
			h.records[recordLink] = link
		case typePax:
			if _, err := readRecords(rest[:size], h.records, func(string) bool { return true }); err != nil {
				return nil, damaged(e.Offset, "%w", err)
			}
		}
		rest = rest[size+padding(size):]
	}
	return h, nil
}

// setLink puts the target of a hard link where there is room for it.
func (h *rawHeader) setLink(link string) {
	delete(h.records, recordLink)
	clear(h.last.bytes(fieldLink))
	copy(h.last.bytes(fieldLink), asciiTail(link))
	if len(link) <= fieldLink.length && isASCII(link) {
		copy(h.last.bytes(fieldLink), link)
	} else {
		h.records[recordLink] = link
	}
}

// setPath does the same with the path.
func (h *rawHeader) setPath(path string) {
	name, prefix, fits := splitName(path)
	old := string(h.last.bytes(fieldMagic)) != magicPOSIX
	if !fits || old && prefix != "" {
		h.records[recordPath] = path
		name, prefix = asciiTail(path), ""
	}
	clear(h.last.bytes(fieldName))
	copy(h.last.bytes(fieldName), name)
	if !old {
		clear(h.last.bytes(fieldPrefix))
		copy(h.last.bytes(fieldPrefix), prefix)
	}
}

// encode puts the blocks together again.
func (h *rawHeader) encode(path string) []byte {
	out := bytes.Clone(h.global)
	var text strings.Builder
	for _, key := range slices.Sorted(maps.Keys(h.records)) {
		text.WriteString(record(key, h.records[key]))
	}
	if size := int64(text.Len()); size > 0 {
		out = append(out, ustar(typePax, "pax/"+asciiTail(path), "", "", 0o644, size, 0)...)
		out = append(append(out, text.String()...), zeroBlock[:padding(size)]...)
	}
	return append(out, h.last[:]...)
}
