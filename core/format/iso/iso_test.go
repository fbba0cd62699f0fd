package iso_test

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
	"widecrate/core/format/iso"
	"widecrate/demo"
)

var when = time.Date(2026, 5, 1, 6, 30, 15, 0, time.UTC)

var long = strings.Repeat("long name ", 24) + ".csv"

var files = []demo.ImageFile{
	{Path: "readme.txt", Data: []byte("tides"), Modified: when},
	{Path: "charts/Osk Bay.png", Data: bytes.Repeat([]byte("pixel"), 1000), Modified: when},
	{Path: "charts/latest", Link: "../charts/Osk Bay.png", Modified: when},
	{Path: "a/b/c/d/e/f/g/h/i/deep.csv", Data: []byte("1,2"), Modified: when},
	{Path: "a/" + long, Data: []byte("3"), Modified: when},
	{Path: "empty", Modified: when},
}

// list reads an image, and describes its entries.
func list(t *testing.T, image []byte) ([]string, error) {
	t.Helper()
	r, err := iso.Open(bytes.NewReader(image), int64(len(image)), archive.Options{})
	if err != nil {
		return nil, err
	}
	var found []string
	for i, e := range r.Entries() {
		if e.Kind == archive.Folder {
			found = append(found, e.Path+"/")
			continue
		}
		data, err := r.Open(i)
		if err != nil {
			return found, err
		}
		content, err := io.ReadAll(data)
		require.NoError(t, err)
		assert.Len(t, content, int(e.Size))
		assert.True(t, when.Equal(e.Modified), e.Path)
		found = append(found, fmt.Sprintf("%s %.5s%s", e.Path, content, e.Link))
	}
	return found, nil
}

func TestNames(t *testing.T) {
	plain := []string{"A/", "CHARTS/", "README.TXT tides", "EMPTY ", "A/B/", "A/LONG_NAME_LONG_NAME_LONG_NAM 3", "A/B/C/", "A/B/C/D/", "A/B/C/D/E/", "A/B/C/D/E/F/",
		"A/B/C/D/E/F/G/", "A/B/C/D/E/F/G/H/", "A/B/C/D/E/F/G/H/I/", "A/B/C/D/E/F/G/H/I/DEEP.CSV 1,2", "CHARTS/OSK_BAY.PNG pixel", "CHARTS/LATEST "}
	full := []string{"a/", "charts/", "readme.txt tides", "empty ", "a/b/", "a/" + long + " 3", "a/b/c/", "a/b/c/d/", "a/b/c/d/e/", "a/b/c/d/e/f/",
		"a/b/c/d/e/f/g/", "a/b/c/d/e/f/g/h/", "a/b/c/d/e/f/g/h/i/", "a/b/c/d/e/f/g/h/i/deep.csv 1,2", "charts/Osk Bay.png pixel", "charts/latest ../charts/Osk Bay.png"}
	short := append([]demo.ImageFile{}, files...)
	short[4].Path = "a/more.csv" // a name of Joliet has no room for a long one
	joliet := append([]string{}, full...)
	joliet[5], joliet[15] = "a/more.csv 3", "charts/latest " // nor has it links
	for name, c := range map[string]struct {
		files []demo.ImageFile
		names demo.Names
		want  []string
	}{
		"plain":           {files, 0, plain},
		"Joliet":          {short, demo.Joliet, joliet},
		"Rock Ridge":      {files, demo.RockRidge, full},
		"the richer wins": {short, demo.Joliet | demo.RockRidge, append(append(append([]string{}, full[:5]...), "a/more.csv 3"), full[6:]...)},
	} {
		image := demo.Image(c.files, c.names)
		found, err := list(t, image)
		require.NoError(t, err, name)
		assert.ElementsMatch(t, c.want, found, name)
		found, err = list(t, rawImage(image))
		require.NoError(t, err, name)
		assert.ElementsMatch(t, c.want, found, name+", raw sectors")
	}
}

// rawImage has sectors of mode 1: the sync pattern, an address, the mode, the data, and
// codes that correct errors.
func rawImage(image []byte) (raw []byte) {
	for at := 0; at < len(image); at += 2048 {
		raw = append(append(raw, 0), bytes.Repeat([]byte{0xff}, 10)...)
		raw = append(append(raw, 0, 0, 2, 0, 1), image[at:at+2048]...)
		raw = append(raw, make([]byte, 288)...)
	}
	return raw
}

// patch changes the record of a name: what is at an offset from its start.
func patch(t *testing.T, image []byte, name string, change func(record []byte)) []byte {
	t.Helper()
	image = bytes.Clone(image)
	at := bytes.Index(image, []byte(name))
	require.Positive(t, at)
	change(image[at-33:])
	return image
}

func put(record []byte, at, value int) { binary.LittleEndian.PutUint32(record[at:], uint32(value)) }

func TestHostileImages(t *testing.T) {
	image := demo.Image(files, 0)
	extent := func(name string) int {
		return int(binary.LittleEndian.Uint32(image[bytes.Index(image, []byte(name))-31:]))
	}
	for name, c := range map[string]struct {
		image []byte
		kind  fault.Kind
		says  string
	}{
		"folder in itself":     {patch(t, image, "CHARTS", func(r []byte) { put(r, 2, int(binary.LittleEndian.Uint32(image[16*2048+158:]))) }), fault.Unsafe, "twice"},
		"folder beyond":        {patch(t, image, "CHARTS", func(r []byte) { put(r, 2, 1<<30) }), fault.Damaged, "beyond the end"},
		"enormous folder":      {patch(t, image, "CHARTS", func(r []byte) { put(r, 10, 1<<31-1) }), fault.Damaged, "beyond the end"},
		"file beyond":          {patch(t, image, "README.TXT", func(r []byte) { put(r, 2, 1<<30) }), fault.Damaged, "lies beyond the end"},
		"file longer than all": {patch(t, image, "README.TXT", func(r []byte) { put(r, 10, 1<<31-1) }), fault.Unsafe, "overlaps"},
		"files overlap":        {patch(t, image, "DEEP.CSV", func(r []byte) { put(r, 2, extent("OSK_BAY.PNG")+1) }), fault.Unsafe, "overlaps"},
		"slash in a name":      {patch(t, image, "README.TXT", func(r []byte) { r[33] = '/' }), fault.Unsafe, "none that a file can have"},
		"record too long":      {patch(t, image, "README.TXT", func(r []byte) { r[32] = 200 }), fault.Damaged, "wrong length"},
		"interleaved":          {patch(t, image, "README.TXT", func(r []byte) { r[26] = 1 }), fault.Damaged, "interleaved"},
		"blocks of 3 bytes":    {func() []byte { b := bytes.Clone(image); b[16*2048+128] = 3; return b }(), fault.Damaged, "logical blocks"},
		"no root":              {func() []byte { b := bytes.Clone(image); put(b[16*2048+156:], 2, 1<<28); return b }(), fault.Damaged, "root folder"},
		"cut off":              {image[:17*2048], fault.Damaged, "ends among"},
	} {
		_, err := list(t, c.image)
		require.Error(t, err, name)
		assert.Equal(t, c.kind, fault.Of(err), "%s: %v", name, err)
		assert.ErrorContains(t, err, c.says, name)
	}
	many := make([]demo.ImageFile, 400)
	for i := range many {
		many[i] = demo.ImageFile{Path: fmt.Sprintf("%d%s", i, strings.Repeat("n", 220))}
	}
	shared := demo.Image(many, demo.RockRidge)
	for at := 0; ; at += 4 { // the fields of each go on in those of all others
		next := bytes.Index(shared[at:], []byte("CE\x1c\x01"))
		if next < 0 {
			break
		}
		at += next
		put(shared[at:], 20, 2048)
	}
	_, err := list(t, shared)
	assert.Equal(t, fault.Unsafe, fault.Of(err), "%v", err)
	// The same data under two names is no overlap.
	_, err = list(t, patch(t, image, "DEEP.CSV", func(r []byte) { put(r, 2, extent("README.TXT")) }))
	assert.NoError(t, err)
}

// Two extents of one file, and a later session that counts.
func TestExtentsAndSessions(t *testing.T) {
	image := demo.Image([]demo.ImageFile{{Path: "x1", Data: bytes.Repeat([]byte("a"), 2048), Modified: when}, {Path: "x2", Data: []byte("tail"), Modified: when}}, 0)
	image = patch(t, image, "X1;1", func(r []byte) { r[25] = 1 << 7 })
	found, err := list(t, image)
	require.NoError(t, err)
	assert.Equal(t, []string{"X1 aaaaa"}, found)
	first, second := demo.Image(files[:1], 0), demo.Image(files[5:], 0)
	moved := bytes.Clone(second) // a session's addresses count from the start of the disc
	start := len(first) / 2048
	put(moved[16*2048:], 80, start+len(second)/2048)
	root := 16*2048 + 156
	put(moved[root:], 2, start+int(binary.LittleEndian.Uint32(second[root+2:])))
	found, err = list(t, append(bytes.Clone(first), moved...))
	require.NoError(t, err)
	assert.Equal(t, []string{"EMPTY "}, found)
}

func FuzzOpen(f *testing.F) {
	var seeds [][]byte
	for _, names := range []demo.Names{0, demo.Joliet, demo.RockRidge} {
		seeds = append(seeds, demo.Image(files, names)[16*2048:])
	}
	bent.Fuzz(f, seeds, 0, nil, func(t *testing.T, data []byte) {
		image := append(make([]byte, 16*2048), data...)
		r, err := iso.Open(bytes.NewReader(image), int64(len(image)), archive.Options{})
		if err != nil {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
			return
		}
		for i, e := range r.Entries() {
			require.LessOrEqual(t, len(e.Path), 1<<20)
			if data, err := r.Open(i); err == nil {
				n, err := io.Copy(bent.Decoded, io.LimitReader(data, 1<<20))
				require.True(t, err != nil || n == min(e.Size, 1<<20))
			}
		}
	})
}
