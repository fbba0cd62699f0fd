package lone

import (
	"bytes"
	"compress/gzip"
	"io"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

func read(t *testing.T, method string, data []byte, name string) (archive.Entry, string, error) {
	t.Helper()
	m, _ := codec.ByName(method)
	file := Formats(m)[2]
	require.True(t, file.Identify(bytes.NewReader(data), int64(len(data))))
	s, err := file.OpenStream(bytes.NewReader(data), int64(len(data)), archive.Options{Name: name})
	require.NoError(t, err)
	defer s.Close()
	e, err := s.Next()
	require.NoError(t, err)
	content, err := io.ReadAll(s)
	if err == nil {
		_, err = s.Next()
		require.Equal(t, io.EOF, err)
		err = nil
	}
	return e, string(content), err
}

// What is compressed is recognised by what it starts with.
func TestPackedCPIO(t *testing.T) {
	image := "070707000001000001100644000000000000000001000000" + "00000000000" + "000006" + "00000000003" + "a.csv\x00" + "1,2" +
		"070707000000000000000000000000000000000001000000" + "00000000000" + "000013" + "00000000000" + "TRAILER!!!\x00"
	m, _ := codec.ByName(codec.Gzip)
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write([]byte(image))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	formats := Formats(m)
	for i, want := range []bool{false, true, true} { // a tar, a cpio, anything
		assert.Equal(t, want, formats[i].Identify(bytes.NewReader(b.Bytes()), int64(b.Len())), formats[i].Name)
	}
	s, err := formats[1].OpenStream(bytes.NewReader(b.Bytes()), int64(b.Len()), archive.Options{})
	require.NoError(t, err)
	defer s.Close()
	e, err := s.Next()
	require.NoError(t, err)
	content, err := io.ReadAll(s)
	require.NoError(t, err)
	assert.Equal(t, "a.csv 1,2", e.Path+" "+string(content))
	_, err = s.Next()
	assert.Equal(t, io.EOF, err)
}

// So many blocks of zeros are a tar of nothing, and other zeros a file.
func TestEmptyTars(t *testing.T) {
	for size, want := range map[int]bool{0: false, 512: false, 1024: true, 10240: true, 10241: false, 2 << 20: false} {
		for _, name := range []string{codec.Gzip, codec.XZ, codec.Zstd} {
			m, _ := codec.ByName(name)
			var b bytes.Buffer
			w, err := m.Encode(&b, codec.EncodeOptions{})
			require.NoError(t, err)
			_, err = w.Write(make([]byte, size))
			require.NoError(t, err)
			require.NoError(t, w.Close())
			assert.Equal(t, want, Formats(m)[0].Identify(bytes.NewReader(b.Bytes()), int64(b.Len())), "%s of %d zeros", name, size)
		}
	}
}

// A gzip header may carry name and time; a name with folders is not believed.
func TestNamesFromHeaders(t *testing.T) {
	when := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	for header, want := range map[string]string{"": "levels.csv", "real.csv": "real.csv", "k\u00fcste.csv": "k\u00fcste.csv", "../up": "levels.csv", "/etc/x": "levels.csv", `a\b`: "levels.csv", "..": "levels.csv"} {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Name, w.ModTime, w.Extra = header, when, []byte("ab\x02\x00xx")
		_, err := w.Write([]byte("1,2"))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		e, content, err := read(t, codec.Gzip, b.Bytes(), "levels.csv.GZ")
		require.NoError(t, err)
		assert.Equal(t, want, e.Path, header)
		assert.Equal(t, "1,2", content)
		assert.True(t, when.Equal(e.Modified))
	}
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	require.NoError(t, w.Close())
	e, _, err := read(t, codec.Gzip, b.Bytes(), "no extension")
	require.NoError(t, err)
	assert.Equal(t, "no extension.data", e.Path)
	assert.True(t, e.Modified.IsZero())

	_, _, err = read(t, codec.Gzip, append(b.Bytes(), "not a member"...), "x.gz")
	assert.ErrorIs(t, err, fault.Damaged)
}

// An archive of 100,000 entries goes through a compressed tar.
func TestManyEntries(t *testing.T) {
	m, _ := codec.ByName(codec.Zstd)
	packed := Formats(m)[0]
	var b bytes.Buffer
	w, err := packed.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	for range 100_000 {
		_, err := w.Add(archive.Entry{Path: "x", Size: 1}, bytes.NewReader([]byte("1")))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.True(t, packed.Identify(bytes.NewReader(b.Bytes()), int64(b.Len())))
	s, err := packed.OpenStream(bytes.NewReader(b.Bytes()), int64(b.Len()), archive.Options{})
	require.NoError(t, err)
	defer s.Close()
	n := 0
	for {
		_, err := s.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		n++
	}
	assert.Equal(t, 100_000, n)
}

// Members of a gzip stream with different names are files of their own; without a name, or with
// the same one, they go on with what stands before them.
func TestMembers(t *testing.T) {
	type member struct{ name, data string }
	long := strings.Repeat("0123456789", 10_000)
	for _, c := range []struct {
		members, want []member
	}{
		{[]member{{"a.csv", "1"}, {"b.csv", "2"}}, []member{{"a.csv", "1"}, {"b.csv", "2"}}},
		{[]member{{"", "1"}, {"", "2"}}, []member{{"x", "12"}}},
		{[]member{{"a", "1"}, {"a", "2"}, {"", "3"}, {"b", ""}, {"c", ""}, {"c", "4"}, {"a", "5"}}, []member{{"a", "123"}, {"b", ""}, {"c", "4"}, {"a", "5"}}},
		{[]member{{"", "1"}, {"b", long}, {"../c", "2"}, {"d", long}, {"e", ""}}, []member{{"x", "1"}, {"b", long + "2"}, {"d", long}, {"e", ""}}},
	} {
		var b bytes.Buffer
		for _, m := range c.members {
			w := gzip.NewWriter(&b)
			w.Name = m.name
			_, err := io.WriteString(w, m.data)
			require.NoError(t, err)
			require.NoError(t, w.Close())
		}
		gz, _ := codec.ByName(codec.Gzip)
		for _, skip := range []bool{false, true} {
			s, err := Formats(gz)[2].OpenStream(bytes.NewReader(b.Bytes()), int64(b.Len()), archive.Options{Name: "x.gz"})
			require.NoError(t, err)
			for _, want := range c.want {
				e, err := s.Next()
				require.NoError(t, err)
				require.Equal(t, want.name, e.Path)
				if !skip {
					content, err := io.ReadAll(iotest.OneByteReader(s))
					require.NoError(t, err)
					require.True(t, want.data == string(content), want.name)
				}
			}
			_, err = s.Next()
			require.Equal(t, io.EOF, err)
			require.NoError(t, s.Close())
		}
	}
	var many bytes.Buffer
	for i := range 2 {
		w := gzip.NewWriter(&many)
		w.Name = strings.Repeat("n", 60_000) + strconv.Itoa(i)
		require.NoError(t, w.Close())
	}
	two := bytes.Clone(many.Bytes())
	for many.Len() < 80<<20 {
		many.Write(two)
	}
	_, _, err := read(t, codec.Gzip, many.Bytes(), "x.gz")
	require.ErrorIs(t, err, fault.Unsafe)
}
