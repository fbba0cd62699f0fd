package udf

import (
	"io/fs"
	"strings"
	"time"
	"unicode/utf16"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// inode is what the entry of a file says of it (part 4, 14.9 and 14.17).
type inode struct {
	at       int64 // of the entry
	kind     byte  // 14.6.6
	mode     fs.FileMode
	also     archive.Facts
	modified time.Time
	size     int64
	ranges   []blob.Range
}

// The types of files.
const (
	kindFolder    = 4
	kindFile      = 5
	kindBlock     = 6
	kindCharacter = 7
	kindPipe      = 9
	kindLink      = 12
)

// mostExtents are those that an image may have however small it is.
const mostExtents = 1 << 20

// inode reads the entry at an offset, which lies in a partition.
func (v *volume) inode(at int64, where address) (*inode, error) {
	b, err := v.read(at, v.block)
	if err != nil {
		return nil, err
	}
	i := &inode{at: at}
	id, ok := tagged(b)
	modified, lengths, data := 84, 168, 176
	switch {
	case ok && id == tagFile:
	case ok && id == tagExtendedFile:
		modified, lengths, data = 92, 208, 216
	default:
		return nil, damaged(at, "it is not that of a file")
	}
	i.kind, i.mode = b[27], permissions(le.Uint32(b[44:]))
	const nobody = 1<<32 - 1
	for _, id := range []uint32{le.Uint32(b[36:]), le.Uint32(b[40:])} { // 14.9.3, 14.9.4
		if id != 0 && id != nobody {
			i.also |= archive.Owner
		}
	}
	i.modified, i.size = timestamp(b[modified:]), int64(le.Uint64(b[56:]))
	attributes, allocation := int(le.Uint32(b[lengths:])), int(le.Uint32(b[lengths+4:]))
	if i.size < 0 || attributes < 0 || allocation < 0 || attributes > len(b) || allocation > len(b) || data+attributes+allocation > len(b) {
		return nil, damaged(at, "its lengths are wrong")
	}
	start := data + attributes
	const embedded = 3
	form := b[34] & 7
	if form == embedded {
		if i.size > int64(allocation) {
			return nil, damaged(at, "its size is not that of the data in it")
		}
		i.ranges = []blob.Range{{From: at + int64(start), To: at + int64(start) + i.size}}
		return i, nil
	}
	return i, v.extents(i, b[start:start+allocation], form, where.partition)
}

// extents reads where the data of a file is.
func (v *volume) extents(i *inode, b []byte, form byte, partition uint16) error {
	const short, long = 0, 1
	width := map[byte]int{short: 8, long: 16}[form]
	if width == 0 {
		return damaged(i.at, "its extents are of a kind that is not read")
	}
	left := i.size
	var went map[int64]bool // blocks in which they go on
	for left > 0 {
		if len(b) < width {
			return damaged(i.at, "its extents are shorter than its size")
		}
		e := allocated{address: address{le.Uint32(b[4:]), partition}, length: le.Uint32(b) & (1<<30 - 1), kind: uint8(le.Uint32(b) >> 30)}
		if form == long {
			e = longAddress(b)
		}
		b = b[width:]
		if e.length == 0 && e.kind == recorded {
			return damaged(i.at, "its extents end before its size")
		}
		if v.extentsRead++; v.extentsRead > v.size/8+mostExtents {
			return fault.New(fault.Unsafe, "its files have more extents than there is room for in the image")
		}
		n := min(int64(e.length), left)
		switch e.kind {
		case recorded:
			if err := v.add(i, e.address, n); err != nil {
				return err
			}
			left -= n
		case reserved, missing:
			if last := len(i.ranges) - 1; last >= 0 && i.ranges[last].From == blob.Hole {
				i.ranges[last].To += n
			} else {
				i.ranges = append(i.ranges, blob.Range{From: blob.Hole, To: n})
			}
			left -= n
		case goesOn: // in a block with a header of 24 bytes (14.5)
			at, err := v.place(e.address)
			if err != nil {
				return err
			}
			next, err := v.read(at, min(int64(e.length), v.block))
			if err != nil {
				return err
			}
			const header = 24
			if len(next) < header || int(le.Uint32(next[20:])) > len(next)-header {
				return damaged(at, "its length is wrong")
			}
			b = next[header : header+int(le.Uint32(next[20:]))]
			if went[at] {
				return fault.New(fault.Unsafe, "the extents of the file at offset %d lead back to where they were", i.at)
			}
			if went == nil {
				went = map[int64]bool{}
			}
			went[at] = true
		}
	}
	return nil
}

// add adds an extent, which may lie in several pieces.
func (v *volume) add(i *inode, a address, n int64) error {
	at, err := v.place(a)
	if err != nil {
		return err
	}
	p := &v.partitions[a.partition]
	if p.metadata == nil && p.spared == nil {
		i.ranges = append(i.ranges, blob.Range{From: at, To: at + n})
		return nil
	}
	for n > 0 { // block by block
		if v.blocks++; v.blocks > 4*v.size/v.block+mostExtents {
			return fault.New(fault.Unsafe, "its files take far more room than there is in the image")
		}
		if at, err = v.place(a); err != nil {
			return err
		}
		piece := min(n, v.block)
		if last := len(i.ranges) - 1; last >= 0 && i.ranges[last].From != blob.Hole && i.ranges[last].To == at {
			i.ranges[last].To += piece
		} else {
			i.ranges = append(i.ranges, blob.Range{From: at, To: at + piece})
		}
		a.block++
		n -= piece
	}
	return nil
}

// permissions has five bits for others, group and owner (14.9.5); execute, write and
// read are the first three of them.
func permissions(v uint32) (mode fs.FileMode) {
	for who := range uint(3) {
		bits := fs.FileMode(v >> (5 * who))
		mode |= (bits&4 | bits&2 | bits&1) << (3 * who)
	}
	return mode
}

// timestamp reads twelve bytes (part 1, 7.3): a zone in minutes, the year, and a byte
// each of month, day, hour, minute, second, and of fractions.
func timestamp(b []byte) time.Time {
	minutes := int(int16(le.Uint16(b)<<4) >> 4)
	if minutes < -1440 || minutes > 1440 { // the image says that it does not know
		minutes = 0
	}
	if b[4] < 1 || b[4] > 12 || b[5] < 1 || b[5] > 31 {
		return time.Time{}
	}
	nanoseconds := int(b[9])*10_000_000 + int(b[10])*100_000 + int(b[11])*1000
	return time.Date(int(int16(le.Uint16(b[2:]))), time.Month(b[4]), int(b[5]), int(b[6]), int(b[7]), int(b[8]), nanoseconds, time.FixedZone("", minutes*60))
}

// text decodes compressed Unicode (UDF 2.1.1): characters of 8 or of 16 bits.
func text(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	width, b := b[0], b[1:]
	var units []uint16
	switch width {
	case 8, 254:
		for _, c := range b {
			units = append(units, uint16(c))
		}
	case 16, 255:
		for ; len(b) >= 2; b = b[2:] {
			units = append(units, uint16(b[0])<<8|uint16(b[1]))
		}
	}
	return string(utf16.Decode(units))
}

// target decodes the components of a link (14.16).
func target(b []byte) string {
	const toRoot, root, parent, current = 1, 2, 3, 4
	var link strings.Builder
	for len(b) >= 4 {
		kind, length := b[0], int(b[1])
		if length > len(b)-4 {
			break
		}
		name := text(b[4 : 4+length])
		b = b[4+length:]
		switch kind {
		case toRoot, root:
			link.Reset()
			link.WriteByte('/')
			continue
		case parent:
			name = ".."
		case current:
			name = "."
		}
		if s := link.String(); s != "" && !strings.HasSuffix(s, "/") {
			link.WriteByte('/')
		}
		link.WriteString(name)
	}
	return link.String()
}

func kindOf(kind byte) archive.Kind {
	switch kind {
	case 0, kindFile, 249: // 249: one that plays in real time
		return archive.File
	case kindFolder:
		return archive.Folder
	case kindLink:
		return archive.Symlink
	case kindBlock, kindCharacter:
		return archive.Device
	case kindPipe:
		return archive.Pipe
	}
	return archive.Other
}
