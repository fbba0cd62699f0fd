package zip

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

func noise(n int) string {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{})
	r.Read(b)
	return string(b)
}

// What was written is read back, on a file where headers are completed
// afterwards and on a stream where they cannot be.
func TestWriteAndReadBack(t *testing.T) {
	when := time.Date(2026, 5, 1, 12, 30, 15, 0, time.UTC)
	long := strings.Repeat(levels, 200)
	entries := []struct {
		e      archive.Entry
		data   string
		method string
	}{
		{archive.Entry{Path: "empty", Kind: archive.File, Mode: 0o644, Size: 0}, "", codec.Store},
		{archive.Entry{Path: "one byte", Mode: 0o600, Size: 1}, "1", codec.Store},
		{archive.Entry{Path: "charts", Kind: archive.Folder, Mode: 0o750}, "", codec.Store},
		{archive.Entry{Path: "charts/küste 潮.csv", Mode: 0o444, Size: int64(len(levels))}, levels, codec.Deflate},
		{archive.Entry{Path: "noise", Mode: 0o644, Size: 5000}, noise(5000), codec.Store},
		{archive.Entry{Path: "long", Mode: 0o755, Size: archive.Unknown}, long, codec.Deflate},
		{archive.Entry{Path: "block", Mode: 0o755, Size: archive.PrepareLimit}, strings.Repeat("x", archive.PrepareLimit), codec.Deflate},
		{archive.Entry{Path: "long noise", Mode: 0o644, Size: 3 << 20}, noise(3 << 20), codec.Deflate},
		{archive.Entry{Path: "link", Kind: archive.Symlink, Mode: 0o777, Link: "charts"}, "charts", codec.Store},
	}
	file, err := os.Create(filepath.Join(t.TempDir(), "x.zip"))
	require.NoError(t, err)
	defer file.Close()
	for name, out := range map[string]io.Writer{"file": file, "stream": struct{ io.Writer }{file}} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, file.Truncate(0))
			_, err := file.Seek(0, io.SeekStart)
			require.NoError(t, err)
			w := NewWriter(out, archive.WriteOptions{})
			for _, c := range entries {
				c.e.Modified, c.e.HasMode = when, true
				stored, err := w.Add(c.e, strings.NewReader(c.data))
				require.NoError(t, err)
				assert.Equal(t, c.method, stored.Method, c.e.Path)
			}
			require.NoError(t, w.Close())
			data, err := os.ReadFile(file.Name())
			require.NoError(t, err)
			got, content, err := read(data)
			require.NoError(t, err)
			require.Len(t, got, len(entries))
			for i, c := range entries {
				assert.Equal(t, c.data, content[i], c.e.Path)
				assert.Equal(t, c.e.Path, got[i].Path)
				assert.Equal(t, c.e.Kind, got[i].Kind)
				assert.Equal(t, c.e.Mode, got[i].Mode)
				assert.True(t, when.Equal(got[i].Modified))
			}
		})
	}
}

// The records of one small archive, byte by byte as the specification has them.
func TestWriteBytes(t *testing.T) {
	var b bytes.Buffer
	w := NewWriter(&b, archive.WriteOptions{})
	when := time.Date(2026, 5, 1, 12, 30, 14, 0, time.UTC)
	_, err := w.Add(archive.Entry{Path: "ä", Size: 2, Mode: 0o640, HasMode: true, Modified: when}, strings.NewReader("hi"))
	require.NoError(t, err)
	require.NoError(t, w.Close())

	stamp := field(extraTimestamp, append([]byte{1}, numbers(uint32(when.Unix()))...))
	common := func(rest ...any) []byte { // from the flags to the length of the extra field
		return numbers(append([]any{uint16(1 << 11), uint16(0), uint16(12<<11 | 30<<5 | 7), uint16(46<<9 | 5<<5 | 1),
			uint32(0xd8932aac), uint32(2), uint32(2), uint16(2), uint16(9)}, rest...)...)
	}
	local := append(numbers(uint32(0x04034b50), uint16(10)), common()...)
	local = append(local, "ä"+stamp+"hi"...)
	central := append(numbers(uint32(0x02014b50), uint16(3<<8|63), uint16(10)),
		common(uint16(0), uint16(0), uint16(0), uint32(0o100640<<16), uint32(0))...)
	central = append(central, "ä"+stamp...)
	end := numbers(uint32(0x06054b50), uint16(0), uint16(0), uint16(1), uint16(1), uint32(len(central)), uint32(len(local)), uint16(0))
	assert.Equal(t, append(append(local, central...), end...), b.Bytes())
}

func TestWriteManyEntries(t *testing.T) {
	var b bytes.Buffer
	w := NewWriter(&b, archive.WriteOptions{})
	for range max16 + 5 {
		_, err := w.Add(archive.Entry{Path: "x"}, strings.NewReader(""))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	entries, _, err := read(b.Bytes())
	require.NoError(t, err)
	assert.Len(t, entries, max16+5)
}

// zeros is endless.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// More than 4 GiB in an entry, and an entry after more than 4 GiB.
func TestWriteBeyond4GiB(t *testing.T) {
	systemtest.Long(t, "gigabytes that are packed")
	const size = 1<<32 + 12345
	file, err := os.Create(filepath.Join(t.TempDir(), "x.zip"))
	require.NoError(t, err)
	defer file.Close()
	w := NewWriter(file, archive.WriteOptions{})
	_, err = w.Add(archive.Entry{Path: "zeros", Size: size}, io.LimitReader(zeros{}, size))
	require.NoError(t, err)
	w.offset += size // as if so much lay between: a hole in the file
	require.NoError(t, w.out.Flush())
	_, err = file.Seek(w.offset, io.SeekStart)
	require.NoError(t, err)
	_, err = w.Add(archive.Entry{Path: "behind", Size: 3}, strings.NewReader("end"))
	require.NoError(t, err)
	require.NoError(t, w.Close())

	info, err := file.Stat()
	require.NoError(t, err)
	r, err := Open(file, info.Size(), archive.Options{})
	require.NoError(t, err)
	require.Equal(t, int64(size), r.Entries()[0].Size)
	for i, want := range []int64{size, 3} {
		d, err := r.Open(i)
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, d)
		require.NoError(t, err)
		assert.Equal(t, want, n)
		d.Close()
	}
}

func TestWriteRefuses(t *testing.T) {
	unread := errors.New("the disk failed")
	for name, c := range map[string]struct {
		e    archive.Entry
		data io.Reader
		want error
	}{
		"no path":       {archive.Entry{}, strings.NewReader(""), fault.Usage},
		"path too long": {archive.Entry{Path: strings.Repeat("x", 1<<16)}, strings.NewReader(""), fault.Usage},
		"device":        {archive.Entry{Path: "a", Kind: archive.Device}, nil, fault.Usage},
		"grown":         {archive.Entry{Path: "a", Size: 3}, strings.NewReader("four"), fault.Unreadable},
		"shrunk":        {archive.Entry{Path: "a", Size: 3}, strings.NewReader("2"), fault.Unreadable},
		"unreadable":    {archive.Entry{Path: "a", Size: 3}, io.MultiReader(strings.NewReader("2"), &broken{unread}), unread},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := NewWriter(io.Discard, archive.WriteOptions{}).Add(c.e, c.data)
			assert.ErrorIs(t, err, c.want)
		})
	}
}

type broken struct{ err error }

func (b *broken) Read([]byte) (int, error) { return 0, b.err }

// What does not compress at its start may do so later: whatever the method, an
// entry is hardly larger than the method alone makes it, nor than its data.
func TestMixedData(t *testing.T) {
	data := noise(1_100_000) + strings.Repeat(levels, 300)
	for _, name := range writable {
		if (name == codec.XZ || name == codec.Bzip2) && !systemtest.LongWanted() {
			continue // slow
		}
		var b, alone bytes.Buffer
		w := NewWriter(&b, archive.WriteOptions{Method: name, Encode: codec.At(codec.Fast)})
		stored, err := w.Add(archive.Entry{Path: "x", Size: int64(len(data))}, strings.NewReader(data))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		m, _ := codec.ByName(name)
		require.NoError(t, pack(&alone, m, codec.At(codec.Fast), strings.NewReader(data)))
		assert.Equal(t, name, stored.Method)
		assert.LessOrEqual(t, float64(stored.Packed), 1.005*float64(alone.Len()), name)
		assert.LessOrEqual(t, float64(stored.Packed), 1.001*float64(len(data)), name)
		_, content, err := read(b.Bytes())
		require.NoError(t, err)
		assert.True(t, data == content[0], name)
	}
}
