package iso

import (
	"encoding/binary"
	"fmt"
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// The types of volume descriptors (8.1.1).
const (
	typeBoot          = 0
	typePrimary       = 1
	typeSupplementary = 2
	typeEnd           = 255
)

// mostDescriptors bounds the set of them: there are four or five.
const mostDescriptors = 64

var le = binary.LittleEndian

// volume is what a primary or supplementary descriptor says (8.4, 8.5).
type volume struct {
	block  int64 // the length of a logical block, in bytes
	space  int64 // of the volume, in bytes
	root   []byte
	joliet bool
}

// descriptors are those of one session.
type descriptors struct {
	primary, joliet *volume
	catalog         int64 // of what it boots from (El Torito), a logical block; 0: there is none
}

// readDescriptors reads the descriptors of the session that begins at a sector.
func readDescriptors(r io.ReaderAt, session int64) (d descriptors, err error) {
	var b [sector]byte
	for at := session + systemArea; at < session+systemArea+mostDescriptors; at++ {
		if n, err := r.ReadAt(b[:], at*sector); n < len(b) {
			if err == io.EOF {
				err = fault.New(fault.Damaged, "the image ends among its volume descriptors, at offset %d", at*sector)
			}
			return d, fault.Reading("", err)
		}
		if string(b[1:6]) != standard {
			break
		}
		switch b[0] {
		case typeEnd:
			return d, d.check(session)
		case typeBoot:
			const elTorito = "EL TORITO SPECIFICATION"
			if string(b[7:7+len(elTorito)]) == elTorito {
				d.catalog = int64(le.Uint32(b[71:]))
			}
		case typePrimary:
			if d.primary == nil {
				d.primary = newVolume(b[:])
			}
		case typeSupplementary:
			// The escape sequences of UCS-2, levels 1 to 3 (Joliet).
			if e := string(b[88:91]); e == "%/@" || e == "%/C" || e == "%/E" {
				d.joliet = newVolume(b[:])
				d.joliet.joliet = true
			}
		}
	}
	return d, d.check(session) // some writers leave the last one out
}

func newVolume(b []byte) *volume {
	v := &volume{block: int64(le.Uint16(b[128:])), root: append([]byte(nil), b[156:156+34]...)}
	v.space = int64(le.Uint32(b[80:])) * v.block
	return v
}

func (d *descriptors) check(session int64) error {
	if d.primary == nil {
		return fault.New(fault.Damaged, "there is no primary volume descriptor at offset %d", (session+systemArea)*sector)
	}
	for _, v := range []*volume{d.primary, d.joliet} {
		if v == nil {
			continue
		}
		switch v.block { // 6.2.2: a power of two, up to a sector
		case 512, 1024, 2048:
		default:
			return fault.New(fault.Damaged, "its logical blocks have %d bytes", v.block)
		}
	}
	return nil
}

// lastSession finds the session that counts: the one behind all others. On a medium
// that is written once, lead-out, lead-in and pause lie between them, or none of it in
// an image; others begin the next at a multiple of some sectors.
func lastSession(r io.ReaderAt, size int64) (int64, descriptors, error) {
	session := int64(0)
	d, err := readDescriptors(r, session)
	for err == nil {
		next := sessionBehind(r, size, d.primary.space/sector)
		if next < 0 {
			break
		}
		newer, bad := readDescriptors(r, next)
		if bad != nil || newer.primary.space <= d.primary.space {
			break
		}
		session, d = next, newer
	}
	return session, d, err
}

// sessionBehind finds a session behind the sector that the one before ends at; -1: there
// is none.
func sessionBehind(r io.ReaderAt, size, end int64) int64 {
	for _, gap := range []int64{0, 150, 6900, 6902, 7050, 11250, 11400, 11402, 11550} {
		for _, align := range []int64{1, 16, 32} {
			at := (end + gap + align - 1) / align * align
			if at > 0 && (at+systemArea+1)*sector <= size && identifies(io.NewSectionReader(r, at*sector, size-at*sector)) {
				return at
			}
		}
	}
	return -1
}

// boots mentions the images that it boots from, by the catalog (El Torito 1.0,
// section 2).
func (z *Reader) boots(catalog, block int64) {
	if catalog == 0 {
		return
	}
	const entry = 32
	var b [sector]byte
	if n, _ := z.r.ReadAt(b[:], catalog*block); n < len(b) || b[0] != 1 || b[30] != 0x55 || b[31] != 0xaa {
		return
	}
	count := 0
	for at := entry; at+entry <= len(b); at += entry {
		if b[at] == 0x88 { // bootable
			count++
		}
	}
	if count > 0 {
		z.remarks = append(z.remarks, archive.Remark{Text: fmt.Sprintf("it can be booted from: %d boot images, which are not among its entries", count)})
	}
}
