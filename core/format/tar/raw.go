package tar

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Raw returns the header blocks of the current entry as they are in the archive,
// so that it can be copied with all that they say; nil for a sparse file, of
// which more than the headers would have to be copied. They are valid until the
// next entry.
func (s *Stream) Raw() []byte {
	if s.m == nil || s.m.pieces != nil || s.m.Size != s.m.stored {
		return nil
	}
	return s.raw
}

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

// Rename returns header blocks for an entry under another path, and of a hard link
// with another target. What else they say stays; long names of the old kind
// become extended records.
func Rename(raw []byte, e archive.Entry, path, link string) ([]byte, error) {
	var out []byte
	records := map[string]string{}
	var order []string
	set := func(key, value string) {
		if _, known := records[key]; !known {
			order = append(order, key)
		}
		records[key] = value
	}
	var last block
	for rest := raw; len(rest) >= blockSize; {
		last = block(rest[:blockSize])
		rest = rest[blockSize:]
		kind := last.bytes(fieldType)[0]
		if kind != typePax && kind != typeGlobal && kind != typeLongName && kind != typeLongLink {
			break
		}
		size, err := number(last.bytes(fieldSize))
		if err != nil || size < 0 || size+padding(size) > int64(len(rest)) {
			return nil, damaged(e.Offset, "its extended header is cut off")
		}
		data := rest[:size]
		switch kind {
		case typeGlobal:
			out = append(append(out, last[:]...), rest[:size+padding(size)]...)
		case typeLongLink:
			set(recordLink, link)
		case typePax:
			found := map[string]string{}
			if _, err := readRecords(data, found, func(string) bool { return true }); err != nil {
				return nil, damaged(e.Offset, "%w", err)
			}
			for key, value := range found {
				set(key, value)
			}
		}
		rest = rest[size+padding(size):]
	}
	if e.Kind == archive.Folder {
		path += "/"
	}
	delete(records, recordPath)
	if e.Kind == archive.Hardlink {
		delete(records, recordLink)
		clear(last.bytes(fieldLink))
		copy(last.bytes(fieldLink), asciiTail(link))
		if len(link) <= fieldLink.length && isASCII(link) {
			copy(last.bytes(fieldLink), link)
		} else {
			set(recordLink, link)
		}
	}
	name, prefix, fits := splitName(path)
	old := string(last.bytes(fieldMagic)) != magicPOSIX
	if !fits || old && prefix != "" {
		set(recordPath, path)
		name, prefix = asciiTail(path), ""
	}
	clear(last.bytes(fieldName))
	copy(last.bytes(fieldName), name)
	if !old {
		clear(last.bytes(fieldPrefix))
		copy(last.bytes(fieldPrefix), prefix)
	}
	sum, _ := checksums(last[:])
	copy(last.bytes(fieldChecksum), fmt.Sprintf("%06o\x00 ", sum))
	slices.Sort(order)
	var text strings.Builder
	for _, key := range slices.Compact(order) {
		if value, kept := records[key]; kept {
			text.WriteString(record(key, value))
		}
	}
	if text.Len() > 0 {
		size := int64(text.Len())
		out = append(out, ustar(typePax, "pax/"+asciiTail(path), "", "", 0o644, size, 0)...)
		out = append(append(out, text.String()...), zeroBlock[:padding(size)]...)
	}
	return append(bytes.Clone(out), last[:]...), nil
}
