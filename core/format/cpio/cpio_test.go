package cpio

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/fault"
)

// thing is an entry to be written field by field.
type thing struct {
	name, data string
	mode       int
	inode      int
	links      int
	sum        int // added to the right one
}

func file(name, data string) thing { return thing{name: name, data: data, mode: 0o100644, links: 1} }

func padded(b []byte, align int) []byte {
	return append(b, make([]byte, (align-len(b)%align)%align)...)
}

func build32(magic string) func(things ...thing) []byte {
	return func(things ...thing) (out []byte) {
		for _, e := range append(things, thing{name: trailer}) {
			sum := e.sum
			for _, c := range []byte(e.data) {
				sum += int(c)
			}
			out = fmt.Appendf(out, "%s%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08X%08x", magic, e.inode, e.mode, 0, 0, e.links, 1777000000, len(e.data), 8, 1, 0, 0, len(e.name)+1, sum)
			out = padded(append(append(out, e.name...), 0), 4)
			out = padded(append(out, e.data...), 4)
		}
		return out
	}
}

func octals(things ...thing) (out []byte) {
	for _, e := range append(things, thing{name: trailer}) {
		out = fmt.Appendf(out, "070707%06o%06o%06o%06o%06o%06o%06o%011o%06o%011o%s\x00%s", 1, e.inode, e.mode, 0, 0, e.links, 0, 1777000000, len(e.name)+1, len(e.data), e.name, e.data)
	}
	return out
}

func build16(order binary.AppendByteOrder) func(things ...thing) []byte {
	return func(things ...thing) (out []byte) {
		for _, e := range append(things, thing{name: trailer}) {
			t := 1777000000
			for _, v := range []int{0o70707, 1, e.inode, e.mode, 0, 0, e.links, 0, t >> 16, t & 0xffff, len(e.name) + 1, len(e.data) >> 16, len(e.data) & 0xffff} {
				out = order.AppendUint16(out, uint16(v))
			}
			out = padded(append(append(out, e.name...), 0), 2)
			out = padded(append(out, e.data...), 2)
		}
		return out
	}
}

var newc, summed = build32(magicNew), build32(magicSummed)

func packed(b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(b)
	_ = w.Close()
	return out.Bytes()
}

func got(e archive.Entry, content []byte) string {
	text := fmt.Sprintf("%s %s %o %s", e.Kind, e.Path, e.Mode, content)
	if e.Link != "" {
		text += "→ " + e.Link
	}
	return text
}

// readBoth reads an archive at any entry and in order, and both must agree.
func readBoth(t *testing.T, data []byte) (found []string, err error) {
	t.Helper()
	s := NewStream(struct{ io.Reader }{bytes.NewReader(data)}, archive.Options{})
	defer s.Close()
	for err == nil {
		var e archive.Entry
		if e, err = s.Next(); err == nil {
			var content []byte
			content, err = io.ReadAll(s)
			found = append(found, got(e, content))
		}
	}
	r, failed := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
	if failed == archive.ErrOrdered {
		return found, err
	}
	var random []string
	for i := 0; failed == nil && i < len(r.Entries()); i++ {
		d, err := r.Open(i)
		require.NoError(t, err)
		var content []byte
		content, failed = io.ReadAll(d)
		random = append(random, got(r.Entries()[i], content))
	}
	if failed == nil {
		assert.Equal(t, found, random)
		require.Equal(t, io.EOF, err)
		return found, err
	}
	require.NotEqual(t, io.EOF, err, "only one of the two failed: %v", failed)
	return found, err
}

func TestRead(t *testing.T) {
	things := []thing{{name: "d", mode: 0o040755, links: 2}, file("d/levels.csv", "1,2\n3"), {name: "l", data: "d/levels.csv", mode: 0o120777, links: 1},
		{name: "null", mode: 0o020666, links: 1}, {name: "p", mode: 0o010600, links: 1}, file("empty", "")}
	want := []string{"folder d 755 ", "file d/levels.csv 644 1,2\n3", "link l 777 → d/levels.csv", "device null 666 ", "pipe p 600 ", "file empty 644 "}
	for name, build := range map[string]func(...thing) []byte{"portable": newc, "with checksums": summed, "octal": octals,
		"binary": build16(binary.LittleEndian), "binary, turned": build16(binary.BigEndian)} {
		data := build(things...)
		found, err := readBoth(t, data)
		require.Equal(t, io.EOF, err, name)
		assert.Equal(t, want, found, name)
		for _, behind := range [][]byte{make([]byte, 512-len(data)%512), nil} { // several, with padding between, and packed
			joined := append(append(bytes.Clone(data), behind...), build(file("more", "x"))...)
			if len(joined)%4 == 0 || behind == nil {
				found, err = readBoth(t, joined)
				require.Equal(t, io.EOF, err, name)
				assert.Equal(t, append(append([]string{}, want...), "file more 644 x"), found, name)
			}
			found, err = readBoth(t, append(append(bytes.Clone(data), behind...), packed(build(file("more", "x")))...))
			require.Equal(t, io.EOF, err, name)
			assert.Equal(t, append(append([]string{}, want...), "file more 644 x"), found, name)
		}
		for cut := range len(data) - 1 { // each cut is noticed, but where only padding is missing
			_, err := readBoth(t, data[:cut])
			if cut < bytes.LastIndex(data, []byte(trailer))+len(trailer)+1 {
				require.Error(t, err, "%s cut at %d", name, cut)
				assert.NotEqual(t, io.EOF, err, "%s cut at %d", name, cut)
			}
		}
	}
}

// Only the last name of a file has its data; the others become second names of it.
func TestHardLinks(t *testing.T) {
	link := func(name, data string, inode int) thing {
		return thing{name: name, data: data, mode: 0o100644, inode: inode, links: 2}
	}
	found, err := readBoth(t, newc(link("a", "", 5), link("x", "", 6), file("b", "own"), link("c", "data", 5), link("y", "", 6)))
	require.Equal(t, io.EOF, err)
	assert.Equal(t, []string{"file b 644 own", "file c 644 data", "hard link a 644 → c", "file x 644 ", "hard link y 644 → x"}, found)
	found, err = readBoth(t, newc(link("a", "data", 5), file("b", "own"), link("c", "", 5))) // or the first
	require.Equal(t, io.EOF, err)
	assert.Equal(t, []string{"file a 644 data", "file b 644 own", "hard link c 644 → a"}, found)
}

func TestDamage(t *testing.T) {
	data := newc(file("levels.csv", "1,2"))
	for name, c := range map[string]struct {
		data []byte
		kind fault.Kind
	}{
		"no digits":      {bytes.Replace(data, []byte("00000003"), []byte("0000000x"), 1), fault.Damaged},
		"wrong checksum": {summed(thing{name: "a", data: "abc", mode: 0o100644, links: 1, sum: 1}), fault.Damaged},
		"no end mark":    {data[:len(data)-124], fault.Damaged},
		"text behind":    {append(bytes.Clone(data), "\x00\x00\x00\x00this is no archive"...), fault.Damaged},
		"long link":      {newc(thing{name: "l", data: strings.Repeat("x", longestLink+1), mode: 0o120777}), fault.Unsafe},
	} {
		_, err := readBoth(t, c.data)
		require.Error(t, err, name)
		assert.Equal(t, c.kind, fault.Of(err), "%s: %v", name, err)
	}
}

func FuzzRead(f *testing.F) {
	seeds := [][]byte{append(newc(file("a", "b")), packed(newc(file("c", "d")))...)}
	for _, build := range []func(...thing) []byte{newc, summed, octals, build16(binary.LittleEndian), build16(binary.BigEndian)} {
		seeds = append(seeds, build(file("a", "1,2"), thing{name: "l", data: "a", mode: 0o120777}, thing{name: "h", mode: 0o100600, inode: 3, links: 2}))
	}
	bent.Fuzz(f, seeds, 0, nil, func(t *testing.T, data []byte) {
		_, err := readBoth(t, data)
		if err != io.EOF {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
		}
	})
}
