package cut

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/parts"
	"widecrate/core/storage"
)

func noise(n int) string {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{5}).Read(b)
	return string(b)
}

// whole is a complete ZIP archive.
func whole(t *testing.T, contents ...string) string {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b, archive.WriteOptions{})
	for i, content := range contents {
		_, err := w.Add(archive.Entry{Path: fmt.Sprintf("%d.csv", i), Size: int64(len(content))}, strings.NewReader(content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

func write(t *testing.T, path, data string) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
}

// What is split is joined again, byte for byte or entry by entry, and held
// against the list of sums.
func TestSplitAndJoin(t *testing.T) {
	packed := whole(t, noise(100_000), strings.Repeat("level,quality\n", 5000), noise(70_000)[100:])
	for name, c := range map[string]struct {
		cut   Options
		names string
	}{
		"numbered":       {Options{PartSize: 50_000}, "w.zip.001 w.zip.002 w.zip.003 w.zip.004"},
		"one part":       {Options{PartSize: 1 << 20}, "w.zip.001"},
		"split ZIP":      {Options{PartSize: 64 << 10, Style: ZIP}, "w.z01 w.z02 w.zip"},
		"unsplit":        {Options{PartSize: 1 << 20, Style: ZIP}, "w.zip"},
		"beyond a block": {Options{PartSize: blockSize + 1}, "w.zip.001"},
	} {
		t.Run(name, func(t *testing.T) {
			from, to := t.TempDir(), filepath.Join(t.TempDir(), "new")
			write(t, filepath.Join(from, "w.zip"), packed)
			written, err := Split(t.Context(), filepath.Join(from, "w.zip"), to, c.cut, new(atomic.Int64))
			require.NoError(t, err)
			names, err := storage.Sites{}.List(to)
			require.NoError(t, err)
			slices.Sort(names)
			list := "w.zip.sha256"
			assert.ElementsMatch(t, append(strings.Fields(c.names), list), names)
			sums, err := parts.ReadSums(to)
			require.NoError(t, err)
			text, err := os.ReadFile(written.List)
			require.NoError(t, err)
			for line := range strings.Lines(string(text)) { // whatever checks the list finds all that it names
				name := strings.TrimSpace(line[strings.LastIndex(line, "  ")+2:])
				assert.True(t, strings.HasPrefix(line, "#") || slices.Contains(names, name), line)
			}
			for i, path := range written.Parts {
				part, err := os.ReadFile(path)
				require.NoError(t, err)
				sum := sha256.Sum256(part)
				listed, err := sums.Check(strings.Fields(c.names)[i], sum[:])
				assert.True(t, listed && err == nil, err)
				assert.LessOrEqual(t, int64(len(part)), c.cut.PartSize)
			}
			_, err = Split(t.Context(), filepath.Join(from, "w.zip"), to, c.cut, new(atomic.Int64))
			require.ErrorIs(t, err, fault.Refused, "they are there already")
			if len(written.Parts) == 1 && c.cut.Style == ZIP {
				data, err := os.ReadFile(written.Parts[0])
				require.NoError(t, err)
				assert.Equal(t, "PK00PK\x03\x04", string(data[:8]))
				return
			}

			s, err := parts.Around(storage.Sites{}, written.Parts[0], nil)
			require.NoError(t, err)
			joined := filepath.Join(from, "joined.zip")
			j, err := Join(t.Context(), s, joined, false, new(parts.Lists), new(atomic.Int64))
			require.NoError(t, err)
			assert.GreaterOrEqual(t, j.Summed, len(written.Parts))
			data, err := os.ReadFile(joined)
			require.NoError(t, err)
			assert.Equal(t, packed, string(data))
			_, err = Join(t.Context(), s, joined, false, new(parts.Lists), new(atomic.Int64))
			require.ErrorIs(t, err, fault.Refused)

			// A byte that is not as the list says.
			data, err = os.ReadFile(written.Parts[0])
			require.NoError(t, err)
			data[1000] ^= 1
			write(t, written.Parts[0], string(data))
			s, err = parts.Around(storage.Sites{}, written.Parts[0], nil)
			require.NoError(t, err)
			_, err = Join(t.Context(), s, filepath.Join(from, "again.zip"), false, new(parts.Lists), new(atomic.Int64))
			require.ErrorIs(t, err, fault.Damaged)
			assert.Contains(t, err.Error(), "where the list says")
			left, err := storage.Sites{}.List(from)
			require.NoError(t, err)
			assert.ElementsMatch(t, []string{"w.zip", "joined.zip"}, left, "nothing half-written")

			// Fewer parts instead of more leave none of the old ones.
			c.cut.Replace, c.cut.PartSize = true, 150_000
			written, err = Split(t.Context(), filepath.Join(from, "w.zip"), to, c.cut, new(atomic.Int64))
			require.NoError(t, err)
			names, err = storage.Sites{}.List(to)
			require.NoError(t, err)
			assert.Len(t, names, len(written.Parts)+1)
		})
	}
	dir := t.TempDir()
	write(t, dir+"/w.zip", packed)
	write(t, dir+"/notes.txt", "no archive")
	write(t, dir+"/front.exe", "a program in front"+packed)
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	for _, c := range []struct {
		ctx  context.Context
		file string
		cut  Options
		want error
	}{
		{t.Context(), "w.zip", Options{PartSize: 64<<10 - 1, Style: ZIP}, fault.Usage},
		{t.Context(), "w.zip", Options{PartSize: 1}, fault.Usage}, // more parts than can be
		{t.Context(), "w.zip", Options{PartSize: 64 << 10, Style: ZIP}, fault.Refused},
		{t.Context(), "notes.txt", Options{PartSize: 64 << 10, Style: ZIP}, fault.Damaged},
		{t.Context(), "front.exe", Options{PartSize: 64 << 10, Style: ZIP}, fault.Usage},
		{t.Context(), "missing", Options{PartSize: 100}, fault.Unreadable},
		{cancelled, "w.zip", Options{PartSize: 50_000}, context.Canceled},
	} {
		_, err := Split(c.ctx, filepath.Join(dir, c.file), dir, c.cut, new(atomic.Int64))
		require.ErrorIs(t, err, c.want, c.file)
		names, err := storage.Sites{}.List(dir)
		require.NoError(t, err)
		assert.Len(t, names, 3)
	}
	empty, made := t.TempDir(), filepath.Join(dir, "made")
	for _, into := range []string{empty, made} {
		_, err := Split(cancelled, filepath.Join(dir, "w.zip"), into, Options{PartSize: 50_000}, nil)
		require.ErrorIs(t, err, context.Canceled)
	}
	assert.DirExists(t, empty, "it was there before")
	assert.NoDirExists(t, made)
}
