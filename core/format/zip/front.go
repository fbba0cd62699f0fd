package zip

import (
	"bytes"
	"fmt"
	"io"

	"widecrate/core/archive"
)

// Front is how many bytes stand in front of the archive. Its offsets may count from there, or
// from the start of the file.
func (z *Reader) Front() int64 {
	if z.end.base > 0 || z.end.split {
		return z.end.base
	}
	front := z.end.start
	for i := range z.entries {
		front = min(front, z.entries[i].Offset)
	}
	if front == 4 && (startsWith(z.r, splitSignature) || startsWith(z.r, unsplitSignature)) {
		return 0
	}
	return front
}

// around says what stands in front of the archive, and behind it.
func (z *Reader) around(r io.ReaderAt, size int64) (remarks []archive.Remark) {
	starts := func(at int64) (start [4]byte) {
		_, _ = r.ReadAt(start[:], at) // what cannot be read is of no use to anybody
		return start
	}
	if n := z.Front(); n > 0 {
		start := starts(0)
		switch {
		case z.end.before:
			remarks = append(remarks, archive.Remark{Reported: true, Partial: true, Text: "several ZIP archives one after the other, of which the last one is read"})
		case bytes.HasPrefix(start[:], []byte("MZ")):
			remarks = append(remarks, archive.Remark{Reported: true, Text: "a self-extracting program for DOS or Windows, with the archive behind it"})
		case bytes.HasPrefix(start[:], []byte("#!")), string(start[:]) == "\x7fELF":
			remarks = append(remarks, archive.Remark{Text: "a program, with the archive behind it"})
		}
		remarks = append(remarks, archive.Remark{Text: fmt.Sprintf("%d bytes stand in front of the archive", n)})
	}
	if z.end.last {
		return remarks
	}
	rest := make([]byte, max(size-z.end.behind, 0)) // no longer than a comment can be: the end was found
	n, _ := r.ReadAt(rest, z.end.behind)            // what cannot be read is of no use to anybody
	switch rest = rest[:n]; {
	case n >= 4 && le.Uint32(rest) == localSignature:
		remarks = append(remarks, archive.Remark{Reported: true, Partial: true, Text: "behind the archive another one starts, whose end is missing"})
	case len(bytes.Trim(rest, "\x00")) > 0: // zeros fill up blocks
		remarks = append(remarks, archive.Remark{Reported: true, Partial: true, Text: fmt.Sprintf("%d bytes stand behind the archive", n)})
	}
	return remarks
}
