package blob

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

// A file is the one that was found only as long as size, time and the file itself
// are the same.
func TestIdentity(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	when := time.Now().Add(-time.Hour)
	write := func(data string) {
		require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
		require.NoError(t, os.Chtimes(path, when, when))
	}
	write("1234")
	f, err := Find(path)
	require.NoError(t, err)
	require.NoError(t, f.Unchanged())
	for what, change := range map[string]func(){
		"longer":    func() { write("12345") },
		"touched":   func() { require.NoError(t, os.Chtimes(path, time.Now(), time.Now())) },
		"gone":      func() { require.NoError(t, os.Remove(path)) },
		"replaced":  func() { require.NoError(t, os.Rename(path, path+"-old")); write("1234") },
		"no longer": func() { require.NoError(t, os.Remove(path)); require.NoError(t, os.Mkdir(path, 0o777)) },
	} {
		change()
		assert.ErrorIs(t, f.Unchanged(), fault.Unreadable, what)
		require.NoError(t, os.RemoveAll(path))
		write("1234")
		f, err = Find(path)
		require.NoError(t, err)
	}
	_, err = Find(filepath.Dir(path))
	assert.ErrorIs(t, err, fault.Unreadable)
}

// What is spooled reads as it came, from memory or from a file that goes with it;
// errors of the data are its own.
func TestSpool(t *testing.T) {
	dir := t.TempDir()
	data := bytes.Repeat([]byte("0123456789"), 100)
	for _, memory := range []int64{0, 999, 1000, 5000} {
		b, err := Spool(bytes.NewReader(data), memory, func() (string, error) { return dir, nil })
		require.NoError(t, err)
		assert.EqualValues(t, len(data), b.Size())
		same, err := Equal(io.NewSectionReader(b, 0, b.Size()), bytes.NewReader(data))
		require.NoError(t, err)
		assert.True(t, same)
		require.NoError(t, b.Close())
	}
	broken := errors.New("broken")
	var pile Pile
	for _, text := range []string{"small", "larger than that", "broken", "as large as that"} {
		in := io.Reader(strings.NewReader(text))
		if text == "broken" {
			in = io.MultiReader(strings.NewReader("a part of it"), failing{broken})
		}
		b, err := pile.Add(in, 5, func() (string, error) { return dir, nil })
		if text == "broken" {
			assert.ErrorIs(t, err, broken)
			continue
		}
		require.NoError(t, err)
		all, err := io.ReadAll(io.NewSectionReader(b, 0, b.Size()))
		require.NoError(t, err)
		assert.Equal(t, text, string(all))
	}
	require.NoError(t, pile.Close())
	_, err := Spool(io.MultiReader(bytes.NewReader(data), failing{broken}), 10, func() (string, error) { return dir, nil })
	assert.ErrorIs(t, err, broken)
	_, err = Spool(bytes.NewReader(data), 10, func() (string, error) { return filepath.Join(dir, "missing"), nil })
	assert.ErrorIs(t, err, fault.Unwritable)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// Files that are joined may be closed while others still read: those get an error, and
// nothing is read from what is closed.
func TestCloseWhileReading(t *testing.T) {
	dir := t.TempDir()
	var files []File
	for i := range 50 {
		path := filepath.Join(dir, strconv.Itoa(i))
		require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte{byte(i)}, 100), 0o666))
		f, err := Find(path)
		require.NoError(t, err)
		files = append(files, f)
	}
	for range 20 {
		j := Join(files)
		_, before := j.ReadAt(make([]byte, 1), -1)
		assert.Error(t, before)
		var readers sync.WaitGroup
		for r := range 8 {
			readers.Go(func() {
				b := make([]byte, 700)
				for at := int64(r * 13); ; at = (at + 300) % 4300 {
					n, err := j.ReadAt(b, at)
					if err != nil {
						assert.ErrorIs(t, err, fault.Unreadable)
						return
					}
					for i := range b[:n] {
						if want := byte((at + int64(i)) / 100); b[i] != want {
							t.Errorf("byte %d at %d is %d instead of %d", i, at, b[i], want)
							return
						}
					}
				}
			})
		}
		time.Sleep(time.Millisecond)
		require.NoError(t, j.Close())
		readers.Wait()
	}
}

func TestEqual(t *testing.T) {
	long := bytes.Repeat([]byte{1}, 100_000)
	for _, c := range []struct {
		a, b []byte
		want bool
	}{{nil, nil, true}, {long, long, true}, {long, long[:99_999], false}, {nil, []byte{1}, false}, {long[:65536], long[:65536], true}, {long[:65536], long[:65537], false}} {
		same, err := Equal(bytes.NewReader(c.a), bytes.NewReader(c.b))
		require.NoError(t, err)
		assert.Equal(t, c.want, same, "%d and %d bytes", len(c.a), len(c.b))
	}
	_, err := Equal(failing{os.ErrDeadlineExceeded}, bytes.NewReader(nil))
	assert.Error(t, err)
}
