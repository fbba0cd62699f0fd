package udf

import (
	"bytes"
	"encoding/binary"
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

var le = binary.LittleEndian

// The identifiers of descriptors (part 3, 7.2.1; part 4, 7.2.1).
const (
	tagAnchor       = 2
	tagPointer      = 3
	tagPartition    = 5
	tagVolume       = 6
	tagEnd          = 8
	tagFileSet      = 256
	tagName         = 257
	tagFile         = 261
	tagExtendedFile = 266
)

// tagged reports whether a descriptor starts with a tag that is right (7.2): its
// checksum is the sum of the other 15 bytes.
func tagged(b []byte) (id uint16, ok bool) {
	if len(b) < 16 {
		return 0, false
	}
	sum := -b[4]
	for _, c := range b[:16] {
		sum += c
	}
	return le.Uint16(b), sum == b[4]
}

// address is that of a logical block: in which partition, by its number among the maps.
type address struct {
	block     uint32
	partition uint16
}

// partition is one of the maps of the logical volume (part 3, 10.7; UDF 2.2.8 to 2.2.10).
type partition struct {
	start    int64             // of the physical one, in bytes
	metadata []blob.Range      // where its blocks really are; nil: one behind the other
	spared   map[uint32]uint32 // packets that lie elsewhere: their sectors
	packet   uint32            // blocks in one
	strange  string            // why it is not read
}

// volume is a logical volume.
type volume struct {
	r          io.ReaderAt
	size       int64
	block      int64 // bytes
	partitions []partition
	root       address
	blocks     int64 // that were looked up one by one

	extentsRead int64
}

func damaged(at int64, what string) error {
	return fault.New(fault.Damaged, "the descriptor at offset %d: %s", at, what)
}

// read reads bytes that must be there.
func (v *volume) read(at, n int64) ([]byte, error) {
	if at < 0 || n < 0 || at+n > v.size {
		return nil, fault.New(fault.Damaged, "what should be at offset %d lies beyond the end of the image, which has %d bytes", at, v.size).
			Advise("the image is cut off: get it again")
	}
	b := make([]byte, n)
	if read, err := v.r.ReadAt(b, at); read < len(b) {
		return nil, fault.Reading("", err)
	}
	return b, nil
}

// openVolume goes from the anchor (part 3, 10.2) to the root folder.
func openVolume(r io.ReaderAt, size int64) (*volume, error) {
	v := &volume{r: r, size: size}
	last := size/sector - 1
	for _, at := range []int64{256, last, last - 256} {
		b, err := v.read(at*sector, 512)
		if err != nil {
			continue
		}
		if id, ok := tagged(b); !ok || id != tagAnchor {
			continue
		}
		for _, extent := range [][]byte{b[16:], b[24:]} { // the main sequence, and its reserve
			if err = v.sequence(int64(le.Uint32(extent[4:]))*sector, int64(le.Uint32(extent))); err == nil {
				return v, nil
			}
		}
		return nil, err
	}
	return nil, fault.New(fault.Damaged, "it has no anchor descriptor").Advise("the image is cut off: get it again")
}

// mostDescriptors bounds a sequence.
const mostDescriptors = 256

// sequence reads the descriptors of the volume.
func (v *volume) sequence(at, length int64) error {
	physical := map[uint16]int64{}
	var logical []byte
	for n := 0; length >= sector && n < mostDescriptors; n++ {
		b, err := v.read(at, sector)
		if err != nil {
			return err
		}
		id, ok := tagged(b)
		switch {
		case !ok:
			return damaged(at, "its tag is wrong")
		case id == tagPartition:
			physical[le.Uint16(b[22:])] = int64(le.Uint32(b[188:])) * sector
		case id == tagVolume:
			logical = b
		case id == tagPointer:
			at, length = int64(le.Uint32(b[24:]))*sector, int64(le.Uint32(b[20:]))
			continue
		case id == tagEnd:
			length = 0
		}
		at, length = at+sector, length-sector
	}
	if logical == nil {
		return damaged(at, "there is no logical volume before it")
	}
	return v.logical(logical, physical)
}

// logical reads the descriptor of the logical volume (10.6) with its partition maps.
func (v *volume) logical(b []byte, physical map[uint16]int64) error {
	if v.block = int64(le.Uint32(b[212:])); v.block != sector {
		return fault.New(fault.Damaged, "its logical blocks have %d bytes, %w", v.block, archive.ErrUnsupported)
	}
	maps, length := b[440:], int(le.Uint32(b[264:]))
	if length > len(maps) {
		return fault.New(fault.Damaged, "its partition maps have %d bytes", length)
	}
	type later struct{ index, file int }
	var metadata []later
	for maps = maps[:length]; len(maps) >= 6 && int(maps[1]) >= 6 && int(maps[1]) <= len(maps); maps = maps[maps[1]:] {
		var p partition
		number := le.Uint16(maps[4:])
		if maps[0] == 2 && maps[1] >= 64 {
			number = le.Uint16(maps[38:])
			switch identifier := string(bytes.TrimRight(maps[5:28], "\x00")); identifier {
			case "*UDF Metadata Partition":
				metadata = append(metadata, later{len(v.partitions), int(le.Uint32(maps[40:]))})
			case "*UDF Sparable Partition":
				if err := v.sparing(&p, maps); err != nil {
					return err
				}
			default:
				p.strange = "its partition is written bit by bit"
			}
		}
		start, known := physical[number]
		if !known {
			return fault.New(fault.Damaged, "a partition map names partition %d, which there is not", number)
		}
		p.start = start
		v.partitions = append(v.partitions, p)
	}
	for _, m := range metadata {
		p := &v.partitions[m.index]
		i, err := v.inode(p.start+int64(m.file)*v.block, address{partition: uint16(m.index)})
		if err != nil {
			return err
		}
		p.metadata = i.ranges
	}
	where := longAddress(b[248:])
	at, err := v.place(where.address)
	if err != nil {
		return err
	}
	set, err := v.read(at, sector)
	if err != nil {
		return err
	}
	if id, ok := tagged(set); !ok || id != tagFileSet {
		return damaged(at, "it is not that of a file set")
	}
	v.root = longAddress(set[400:]).address
	return nil
}

// sparing reads the table of packets that lie elsewhere (UDF 2.2.12).
func (v *volume) sparing(p *partition, m []byte) error {
	p.packet = max(1, uint32(le.Uint16(m[40:])))
	p.spared = map[uint32]uint32{}
	if m[42] == 0 {
		return nil
	}
	at := int64(le.Uint32(m[48:])) * sector
	b, err := v.read(at, min(int64(le.Uint32(m[44:])), 1<<20))
	if err != nil {
		return err
	}
	if len(b) < 56 || !bytes.HasPrefix(b[17:], []byte("*UDF Sparing Table")) {
		return damaged(at, "it is not that of spared packets")
	}
	for entry := b[56:]; len(entry) >= 8 && le.Uint16(b[48:]) > 0; entry = entry[8:] {
		const free, defective = 0xffffffff, 0xfffffff0
		if original := le.Uint32(entry); original < defective && original != free {
			p.spared[original] = le.Uint32(entry[4:])
		}
		if len(b)-len(entry) >= 56+8*int(le.Uint16(b[48:])) {
			break
		}
	}
	return nil
}

// place is the offset of a block.
func (v *volume) place(a address) (int64, error) {
	if int(a.partition) >= len(v.partitions) {
		return 0, fault.New(fault.Damaged, "a block is said to be in partition %d, which there is not", a.partition)
	}
	p := &v.partitions[a.partition]
	if p.strange != "" {
		return 0, fault.New(fault.Damaged, "%s, which is %w", p.strange, archive.ErrUnsupported)
	}
	if p.spared != nil {
		if elsewhere, is := p.spared[a.block/p.packet*p.packet]; is {
			return int64(elsewhere+a.block%p.packet) * sector, nil
		}
	}
	if p.metadata == nil {
		return p.start + int64(a.block)*v.block, nil
	}
	at := int64(a.block) * v.block
	for _, e := range p.metadata {
		if length := e.To - e.From; at < length && e.From != blob.Hole {
			return e.From + at, nil
		} else {
			at -= length
		}
	}
	return 0, fault.New(fault.Damaged, "block %d lies beyond the end of the metadata", a.block)
}

// allocated is an extent (part 4, 14.14).
type allocated struct {
	address
	length uint32
	kind   uint8
}

// The kinds of extents (14.14.1.1).
const (
	recorded = iota
	reserved
	missing
	goesOn
)

func longAddress(b []byte) allocated {
	n := le.Uint32(b)
	return allocated{address{le.Uint32(b[4:]), le.Uint16(b[8:])}, n & (1<<30 - 1), uint8(n >> 30)}
}
