package udf_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/udf"
	"widecrate/demo"
)

const sector, start = 2048, 257 // where the partition starts

var le = binary.LittleEndian

// image is laid out by hand: sectors by number.
type image struct {
	b        []byte
	metadata bool // folders and entries lie in a metadata partition
	next     int  // block of the partition
}

func (i *image) at(sectorNumber int) []byte {
	if need := (sectorNumber + 1) * sector; need > len(i.b) {
		i.b = append(i.b, make([]byte, need-len(i.b))...)
	}
	return i.b[sectorNumber*sector : (sectorNumber+1)*sector]
}

func tag(b []byte, id uint16) {
	le.PutUint16(b, id)
	b[4] = 0
	sum := byte(0)
	for _, c := range b[:16] {
		sum += c
	}
	b[4] = sum
}

// metadataStart is the block of the physical partition at which that one begins.
const metadataStart = 8

func (i *image) partition() uint16 {
	if i.metadata {
		return 1
	}
	return 0
}

// take returns a new block for an entry or folder, and its number.
func (i *image) take() (block int, b []byte) {
	block = i.next
	i.next++
	if i.metadata {
		return block, i.at(start + metadataStart + block)
	}
	return block, i.at(start + block)
}

// data puts bytes in blocks of the physical partition, far behind, with a long address.
func (i *image) data(at int, b []byte) []byte {
	for n := 0; n*sector < len(b); n++ {
		copy(i.at(start+at+n), b[n*sector:])
	}
	return address(int64(len(b)), at, 0)
}

func address(length int64, block int, partition uint16) []byte {
	b := le.AppendUint32(le.AppendUint32(nil, uint32(length)), uint32(block))
	return append(le.AppendUint16(b, partition), make([]byte, 6)...)
}

var when = time.Date(2026, 5, 1, 6, 30, 15, 0, time.UTC)

// entry writes the entry of a file: its data is embedded, or where the extents say.
func (i *image) entry(kind byte, size int, embedded []byte, extents ...[]byte) int {
	block, b := i.take()
	allocation := embedded
	form := uint16(3)
	if embedded == nil {
		allocation, form = bytes.Join(extents, nil), 1
	}
	b[27] = kind
	le.PutUint16(b[34:], form)
	le.PutUint32(b[44:], 7<<10|5<<5|4) // of the owner, the group, the others
	le.PutUint64(b[56:], uint64(size))
	copy(b[84:], append(le.AppendUint16(le.AppendUint16(nil, 0x1000), 2026), 5, 1, 6, 30, 15))
	le.PutUint32(b[172:], uint32(len(allocation)))
	copy(b[176:], allocation)
	tag(b, 261)
	return block
}

// name is a file identifier.
func (i *image) name(name string, block int, flags byte) []byte {
	text := append([]byte{8}, name...)
	if name == "" {
		text = nil
	}
	b := make([]byte, 38)
	b[18], b[19] = flags, byte(len(text))
	copy(b[20:], address(sector, block, i.partition()))
	b = append(b, text...)
	b = append(b, make([]byte, (4-len(b)%4)%4)...)
	tag(b, 257)
	return b
}

func build(metadata bool) *image {
	i := &image{metadata: metadata}
	for n, id := range []string{"BEA01", "NSR03", "TEA01"} {
		copy(i.at(16 + n)[1:], id)
	}
	i.next = 1 // 0 is the file set
	long := bytes.Repeat([]byte("0123456789abcdef"), 300)
	extents := [][]byte{i.data(40, long[:2*sector]), address(1<<30|sector, 0, 0), i.data(50, long[2*sector:])}
	levels := i.entry(5, len("1,2\n"), []byte("1,2\n"))
	grid := i.entry(5, len(long)+sector, nil, extents...)
	link := i.entry(12, 15, append([]byte{3, 0, 0, 0, 5, 7, 0, 0, 8}, "charts"...))
	below := bytes.Join([][]byte{i.name("", 0, 8|2), i.name("grid.dat", grid, 0), i.name("gone", grid, 4), i.name("same.dat", grid, 0)}, nil)
	folder := i.entry(4, len(below), below)
	top := bytes.Join([][]byte{i.name("", 0, 8|2), i.name("levels.csv", levels, 0), i.name("d", folder, 2), i.name("l", link, 0)}, nil)
	root := i.entry(4, len(top), top)
	set := i.at(start)
	if metadata {
		set = i.at(start + metadataStart)
		saved := i.metadata
		i.metadata, i.next = false, 1
		i.entry(250, 16*sector, nil, address(16*sector, metadataStart, 0))
		i.metadata = saved
	}
	copy(set[400:], address(sector, root, i.partition()))
	tag(set, 256)
	p := i.at(32)
	le.PutUint32(p[188:], start)
	tag(p, 5)
	v := i.at(33)
	le.PutUint32(v[212:], sector)
	copy(v[248:], address(sector, 0, i.partition()))
	maps := []byte{1, 6, 1, 0, 0, 0}
	if metadata {
		m := make([]byte, 64)
		m[0], m[1] = 2, 64
		copy(m[5:], "*UDF Metadata Partition")
		le.PutUint32(m[40:], 1)
		maps = append(maps, m...)
	}
	le.PutUint32(v[264:], uint32(len(maps)))
	copy(v[440:], maps)
	tag(v, 6)
	tag(i.at(34), 8)
	a := i.at(256)
	copy(a[16:], append(le.AppendUint32(nil, 16*sector), 32, 0, 0, 0))
	tag(a, 2)
	i.at(start + 60)
	return i
}

func list(t *testing.T, b []byte) (found []string, err error) {
	t.Helper()
	r, err := udf.Format.Open(bytes.NewReader(b), int64(len(b)), archive.Options{})
	if err != nil {
		return nil, err
	}
	for i, e := range r.Entries() {
		d, err := r.Open(i)
		if err != nil {
			return found, err
		}
		content, err := io.ReadAll(d)
		require.NoError(t, err)
		assert.Len(t, content, int(e.Size))
		assert.True(t, when.Equal(e.Modified), e.Path)
		found = append(found, fmt.Sprintf("%s %s %o %.4s%s", e.Kind, e.Path, e.Mode, content, e.Link))
	}
	return found, nil
}

var want = []string{"file levels.csv 754 1,2\n", "folder d 754 ", "link l 754 ../charts", "file d/grid.dat 754 0123", "hard link d/same.dat 754 d/grid.dat"}

func TestRead(t *testing.T) {
	for _, metadata := range []bool{false, true} {
		b := build(metadata).b
		f, known := format.Start(bytes.NewReader(b), int64(len(b)))
		require.True(t, known)
		assert.Equal(t, "udf", f.Name)
		found, err := list(t, b)
		require.NoError(t, err)
		assert.Equal(t, want, found)
		r, err := udf.Open(bytes.NewReader(b), int64(len(b)), archive.Options{})
		require.NoError(t, err)
		d, err := r.Open(3)
		require.NoError(t, err)
		content, err := io.ReadAll(d)
		require.NoError(t, err)
		long := bytes.Repeat([]byte("0123456789abcdef"), 300)
		assert.Equal(t, append(append(bytes.Clone(long[:2*sector]), make([]byte, sector)...), long[2*sector:]...), content)
	}
}

// Of an image in both formats, the richer one counts.
func TestBridge(t *testing.T) {
	files := []demo.ImageFile{{Path: "one.csv", Data: []byte("1"), Modified: when}}
	for name, c := range map[string]struct {
		files []demo.ImageFile
		want  int
	}{"UDF has more": {files, len(want)}, "ISO 9660 has more": {append(files, demo.ImageFile{Path: "a/b/c/d/e/f/two.csv", Modified: when}), 8}} {
		u, i := build(false), demo.Image(c.files, demo.RockRidge)
		require.LessOrEqual(t, len(i), 32*sector)
		copy(u.b[16*sector:], i[16*sector:])
		for n, id := range []string{"BEA01", "NSR03", "TEA01"} {
			copy(u.at(18+n), "\x00"+id)
		}
		r, err := udf.Format.Open(bytes.NewReader(u.b), int64(len(u.b)), archive.Options{})
		require.NoError(t, err, name)
		assert.Len(t, r.Entries(), c.want, name)
	}
}

func TestHostileImages(t *testing.T) {
	for name, c := range map[string]struct {
		change func(i *image)
		kind   fault.Kind
		says   string
	}{
		"no anchor": {func(i *image) { i.at(256)[0] = 9 }, fault.Damaged, "anchor"},
		"wrong tag": {func(i *image) { i.at(start + 1)[4]++ }, fault.Damaged, "not that of a file"},
		"folder in itself": {func(i *image) {
			root := i.at(start + 5)
			at := bytes.Index(root, []byte("\x08d")) - 38
			copy(root[at+20:], address(sector, 5, 0))
		}, fault.Unsafe, "twice"},
		"deep": {func(i *image) {
			block := 0
			for range 20 {
				below := i.name("", 0, 8|2)
				if block != 0 {
					below = append(below, i.name(strings.Repeat("n", 250), block, 2)...)
				}
				block = i.entry(4, len(below), below)
			}
			root := i.at(start + 5)
			copy(root[bytes.Index(root, []byte("\x08d"))-38+20:], address(sector, block, 0))
		}, fault.Unsafe, "too long"},
		"slash in a name":   {func(i *image) { root := i.at(start + 5); root[bytes.Index(root, []byte("levels"))] = '/' }, fault.Unsafe, "none that a file can have"},
		"file beyond":       {func(i *image) { copy(i.at(start + 2)[176:], address(2*sector, 1<<20, 0)) }, fault.Damaged, "beyond the end"},
		"extents too short": {func(i *image) { le.PutUint64(i.at(start + 2)[56:], 1<<40) }, fault.Damaged, "shorter than its size"},
		"no partition":      {func(i *image) { copy(i.at(start + 2)[176:], address(2*sector, 40, 7)) }, fault.Damaged, "partition 7"},
		"in circles": {func(i *image) {
			copy(i.at(start + 2)[176:], address(3<<30|sector, 20, 0))
			b := i.at(start + 20)
			le.PutUint32(b[20:], 16)
			copy(b[24:], address(3<<30|sector, 20, 0))
		}, fault.Unsafe, "extents"},
	} {
		i := build(false)
		c.change(i)
		_, err := list(t, i.b)
		require.Error(t, err, name)
		assert.Equal(t, c.kind, fault.Of(err), "%s: %v", name, err)
		assert.ErrorContains(t, err, c.says, name)
	}
}

func FuzzOpen(f *testing.F) {
	var seeds [][]byte
	for _, metadata := range []bool{false, true} {
		seeds = append(seeds, build(metadata).b[256*sector:])
	}
	mend := func(data []byte) {
		for at := 0; at+16 <= len(data); at += sector {
			if id := le.Uint16(data[at:]); id != 0 {
				tag(data[at:], id)
			}
		}
	}
	before := build(false).b[:256*sector]
	bent.Fuzz(f, seeds, 0, mend, func(t *testing.T, data []byte) {
		b := append(bytes.Clone(before), data...)
		r, err := udf.Open(bytes.NewReader(b), int64(len(b)), archive.Options{})
		if err != nil {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
			return
		}
		for i, e := range r.Entries() {
			if d, err := r.Open(i); err == nil {
				n, err := io.Copy(bent.Decoded, io.LimitReader(d, 1<<20))
				require.True(t, err != nil || n == min(e.Size, 1<<20))
			}
		}
	})
}
