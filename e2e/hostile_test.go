package e2e

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format/zip"
)

// zeros packs a file of zeros that is only there in the archive.
func zeros(t *testing.T, size int64) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b, archive.WriteOptions{})
	_, err := w.Add(archive.Entry{Path: "zeros", Size: size}, io.LimitReader(zeroReader{}, size))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

type zeroReader struct{}

func (zeroReader) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// The known kinds of hostile archives are stopped by the defaults, before they
// do harm.
func TestHostileArchives(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "flat.zip"), zeros(t, 3<<29))
	layer := zeros(t, 100<<20)
	for range 2 { // 64 times 100 MiB
		pairs := []string{}
		for i := range 8 {
			pairs = append(pairs, string(rune('a'+i))+".zip", layer)
		}
		pack(t, filepath.Join(dir, "layers.zip"), pairs...)
		data, err := os.ReadFile(filepath.Join(dir, "layers.zip"))
		require.NoError(t, err)
		layer = string(data)
	}
	pack(t, filepath.Join(dir, "path.zip"), strings.Repeat("long/", 12_000)+"x", "1")
	var many []string
	for range 3000 {
		many = append(many, "x", "")
	}
	pack(t, filepath.Join(dir, "many.zip"), many...)
	for _, c := range []struct {
		says string
		args []string
	}{
		{"flat.zip: it unpacks to more than 1073741824 bytes", []string{"flat.zip"}},
		{"it unpacks to more than 1073741824 bytes", []string{"layers.zip", "--nested", "--workers", "2"}},
		{"is too long", []string{"path.zip"}},
		{"it holds more than 2000 entries", []string{"many.zip", "--max-entries", "2000"}},
	} {
		_, stderr, code := run(t, dir, append([]string{"extract", "--into", "out"}, c.args...)...)
		assert.Equal(t, 9, code, stderr)
		assert.Contains(t, stderr, c.says)
		var size int64
		for _, data := range tree(t, filepath.Join(dir, "out")) {
			size += int64(len(data))
		}
		assert.LessOrEqual(t, size, int64(1<<30))
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
	}
	_, stderr, code := run(t, dir, "extract", "flat.zip", "--into", "out", "--max-ratio", "2000", "--dry-run")
	assert.Equal(t, 0, code, stderr)
}
