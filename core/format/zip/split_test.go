package zip

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

// memory is a Segmented that keeps its segments.
type memory struct {
	size     int
	segments [][]byte
}

func (m *memory) Write(p []byte) (int, error) {
	for n := 0; n < len(p); {
		_, offset, _ := m.Reserve(1)
		last := &m.segments[len(m.segments)-1]
		k := min(len(p)-n, m.size-int(offset))
		*last = append(*last, p[n:n+k]...)
		n += k
	}
	return len(p), nil
}

func (m *memory) Reserve(n int) (int, int64, error) {
	if k := len(m.segments); k == 0 || len(m.segments[k-1])+n > m.size {
		m.segments = append(m.segments, nil)
	}
	k := len(m.segments) - 1
	return k, int64(len(m.segments[k])), nil
}

func (m *memory) whole() ([]byte, archive.Parts) {
	var whole []byte
	var parts archive.Parts
	for i, s := range m.segments {
		parts = append(parts, archive.Part{Name: fmt.Sprintf("x.z%02d", i+1), Start: int64(len(whole)), Size: int64(len(s))})
		whole = append(whole, s...)
	}
	return whole, parts
}

// walk goes through a split archive by the letter of the specification, with no
// help from the code under test, and returns the names and packed data that it
// finds. Every record must lie in one segment.
func walk(t *testing.T, segments [][]byte) map[string][]byte {
	t.Helper()
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	require.Equal(t, "PK\x07\x08", string(segments[0][:4]), "8.5.4")
	last := segments[len(segments)-1]
	end := last[len(last)-22:]
	require.Equal(t, "PK\x05\x06", string(end[:4]), "4.3.16")
	require.EqualValues(t, len(segments)-1, u16(end[4:]), "number of this disk")
	disk, at := int(u16(end[6:])), int(u32(end[16:]))
	found := map[string][]byte{}
	var length, onLast, next, nextAt = 0, 0, 0, 4 // where the next local header has to be
	for range u16(end[10:]) {
		if at == len(segments[disk]) {
			disk, at = disk+1, 0
		}
		h := segments[disk][at:]
		require.Equal(t, "PK\x01\x02", string(h[:4]), "4.3.12")
		size := 46 + int(u16(h[28:])) + int(u16(h[30:])) + int(u16(h[32:]))
		require.LessOrEqual(t, size, len(h), "8.5.2: a header over a border")
		name := string(h[46 : 46+u16(h[28:])])
		at, length = at+size, length+size
		if disk == len(segments)-1 {
			onLast++
		}
		start, offset := int(u16(h[34:])), int(u32(h[42:]))
		if [2]int{start, offset} != [2]int{next, nextAt} { // the record did not fit into the rest
			assert.Equal(t, [2]int{next + 1, 0}, [2]int{start, offset}, name)
		}
		l := segments[start][offset:]
		require.Equal(t, "PK\x03\x04", string(l[:4]), "4.3.7")
		header := 30 + int(u16(l[26:])) + int(u16(l[28:]))
		require.LessOrEqual(t, header, len(l), "8.5.2: a header over a border")
		require.Equal(t, name, string(l[30:30+u16(l[26:])]))
		next, nextAt = start, offset+header
		data := []byte{}
		for left := int(u32(h[20:])); left > 0; {
			if nextAt == len(segments[next]) {
				next, nextAt = next+1, 0
			}
			n := min(left, len(segments[next])-nextAt)
			data = append(data, segments[next][nextAt:nextAt+n]...)
			left, nextAt = left-n, nextAt+n
		}
		if u16(h[8:])&8 != 0 {
			if len(segments[next])-nextAt < 16 {
				next, nextAt = next+1, 0
			}
			d := segments[next][nextAt:]
			require.Equal(t, "PK\x07\x08", string(d[:4]), "4.3.9")
			assert.Equal(t, [3]uint32{u32(h[16:]), u32(h[20:]), u32(h[24:])}, [3]uint32{u32(d[4:]), u32(d[8:]), u32(d[12:])})
			nextAt += 16
		}
		found[name] = data
	}
	assert.EqualValues(t, length, u32(end[12:]), "size of the directory")
	assert.EqualValues(t, onLast, u16(end[8:]), "entries on this disk")
	assert.Equal(t, len(last)-22, map[bool]int{true: at, false: 0}[disk == len(segments)-1], "the end record follows the directory")
	return found
}

// Archives are split at every size of segment, so that borders fall everywhere;
// read over the borders; and joined again.
func TestSplit(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	names := []string{"a.csv", "folder/", "levels/" + strings.Repeat("long ", 30) + ".csv", "empty", "noise", "z.csv"}
	contents := []string{levels, "", levels[:100], "", noise(3000), levels}
	for n := range systemtest.Rounds(30, 45, 150) {
		m := &memory{size: 300 + r.IntN(4000)}
		w, err := NewSplitWriter(m, archive.WriteOptions{})
		require.NoError(t, err)
		for i, name := range names {
			e := archive.Entry{Path: strings.TrimSuffix(name, "/"), Size: int64(len(contents[i]))}
			if strings.HasSuffix(name, "/") {
				e.Kind = archive.Folder
			}
			_, err := w.Add(e, strings.NewReader(contents[i]))
			require.NoError(t, err)
		}
		if n%3 == 0 { // with a descriptor
			_, err := w.Add(archive.Entry{Path: "long", Size: archive.PrepareLimit + 100}, strings.NewReader(noise(archive.PrepareLimit+100)))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		packed := walk(t, m.segments)
		assert.Len(t, packed, len(names)+map[bool]int{true: 1}[n%3 == 0])
		assert.Equal(t, contents[4], string(packed["noise"]))

		whole, parts := m.whole()
		z, err := Open(bytes.NewReader(whole), int64(len(whole)), archive.Options{Parts: parts})
		require.NoError(t, err, "segments of %d", m.size)
		check := func(z *Reader) {
			for i, want := range contents {
				data, err := z.Open(i)
				require.NoError(t, err)
				got, err := io.ReadAll(data)
				require.NoError(t, err)
				require.Equal(t, want, string(got), names[i])
			}
		}
		check(z)
		var joined bytes.Buffer
		j := NewWriter(&joined, archive.WriteOptions{})
		require.NoError(t, j.Copy(t.Context(), z))
		require.NoError(t, j.Close())
		z, err = Open(bytes.NewReader(joined.Bytes()), int64(joined.Len()), archive.Options{})
		require.NoError(t, err)
		check(z)

		again := &memory{size: m.size}
		s, err := NewSplitWriter(again, archive.WriteOptions{})
		require.NoError(t, err)
		require.NoError(t, s.Copy(t.Context(), z))
		require.NoError(t, s.Close())
		require.Equal(t, m.segments, again.segments, "split, joined and split again")
	}
}

// Where parts are not those of one set, that is said before any work, or where
// only the data can tell, when it breaks.
func TestSplitWrong(t *testing.T) {
	make := func(seed byte, size int) *memory {
		m := &memory{size: size}
		w, err := NewSplitWriter(m, archive.WriteOptions{})
		require.NoError(t, err)
		for i := range 6 {
			content := noise(5000)[:4000] + string(seed+byte(i))
			_, err := w.Add(archive.Entry{Path: fmt.Sprintf("%c%d", seed, i), Size: int64(len(content))}, strings.NewReader(content))
			require.NoError(t, err)
		}
		big := noise(200_000)
		_, err = w.Add(archive.Entry{Path: "big", Size: int64(len(big))}, strings.NewReader(big))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return m
	}
	for name, c := range map[string]struct {
		change func(m *memory)
		says   string
		late   bool
	}{
		"a part of another set":  {func(m *memory) { m.segments[1] = make('k', 8000).segments[1] }, "part 2 (x.z02) is of another set", false},
		"two swapped":            {func(m *memory) { m.segments[0], m.segments[1] = m.segments[1], m.segments[0] }, "is of another set, or in the wrong place", false},
		"one cut short":          {func(m *memory) { m.segments[2] = m.segments[2][:500] }, "its parts do not fit its directory", false},
		"one left out":           {func(m *memory) { m.segments = append(m.segments[:5], m.segments[6:]...) }, "parts, and there are", false},
		"data swapped":           {func(m *memory) { m.segments[8], m.segments[9] = m.segments[9], m.segments[8] }, "the data breaks in parts", true},
		"the last of another":    {func(m *memory) { m.segments[len(m.segments)-1] = make('k', 8000).segments[len(m.segments)-1] }, "is of another set", false},
		"the directory over two": {func(m *memory) { *m = *make('a', 500); m.segments[3] = m.segments[3][:9] }, "do not fit its directory", false},
	} {
		t.Run(name, func(t *testing.T) {
			m := make('a', 8000)
			c.change(m)
			whole, parts := m.whole()
			z, err := Open(bytes.NewReader(whole), int64(len(whole)), archive.Options{Parts: parts})
			if c.late {
				require.NoError(t, err)
				var data io.ReadCloser
				if data, err = z.Open(6); err == nil {
					_, err = io.ReadAll(data)
				}
			}
			require.ErrorIs(t, err, fault.Incomplete)
			assert.Contains(t, err.Error(), c.says)
		})
	}
	last := make('a', 8000).segments
	n, err := Segments(bytes.NewReader(last[len(last)-1]), int64(len(last[len(last)-1])))
	require.NoError(t, err)
	assert.EqualValues(t, len(last), n)
}
