package e2e

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/format/tar"
	"widecrate/core/format/zip"
	"widecrate/core/systemtest"
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
	systemtest.Long(t, "gigabytes that are packed well")
	t.Parallel()
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
		{"flat.zip: it unpacks to more than 1.0 GiB", []string{"flat.zip"}},
		{"it unpacks to more than 1.0 GiB", []string{"layers.zip", "--nested", "--workers", "2"}},
		{"is too long", []string{"path.zip"}},
		{"it holds more entries than 2,000", []string{"many.zip", "--max-entries", "2000"}},
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

// tarOf makes a tar of headers, each with what is to be changed in it.
func tarOf(t *testing.T, path string, add func(w *tar.Writer)) {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	add(w)
	require.NoError(t, w.Close())
	put(t, path, b.String())
}

// Names of archives, of entries and of links never lead out of where they belong,
// and never pass for what a run has not finished.
func TestHostileNames(t *testing.T) {
	dir := t.TempDir()
	inner := func(pairs ...string) string {
		pack(t, filepath.Join(dir, "inner"), pairs...)
		data, err := os.ReadFile(filepath.Join(dir, "inner"))
		require.NoError(t, err)
		return string(data)
	}
	const area = ".widecrate-abcdefghij"
	journal := `{"moves":[{"staged":"1-0","target":"honest/h.txt","kept":"1-0-old"}]}`
	for name, pairs := range map[string][]string{
		"up.zip":      {"honest.zip", inner("h.txt", "honest"), "...zip", inner("honest/h.txt", "forged"), "z.txt", "z"},
		"dot.zip":     {"..zip", inner("honest/h.txt", "forged")},
		"staging.zip": {"x/" + strings.ToUpper(area) + ".zip", inner("owner", "forged")},
		"journal.zip": {area + "/owner", `{"host":"x"}`, area + "/1-journal", journal, area + "/1-0", "forged"},
	} {
		pack(t, filepath.Join(dir, name), pairs...)
	}
	put(t, filepath.Join(dir, "...zip"), inner("h.txt", "forged"))
	tarOf(t, filepath.Join(dir, "link.tar"), func(w *tar.Writer) {
		_, err := w.Add(archive.Entry{Path: "l", Kind: archive.Symlink, Link: "./.Widecrate-x"}, nil)
		require.NoError(t, err)
	})
	for _, layout := range []string{"own", "shared", "auto"} {
		for _, name := range []string{"up.zip", "dot.zip", "staging.zip", "journal.zip", "...zip", "link.tar"} {
			if layout == "shared" && name != "journal.zip" && name != "link.tar" {
				continue // where there are no own folders
			}
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
			put(t, filepath.Join(dir, "out/honest/h.txt"), "mine")
			put(t, filepath.Join(dir, "out/up/honest/h.txt"), "mine")
			before := tree(t, filepath.Join(dir, "out"))
			_, stderr, code := run(t, dir, "extract", name, "--nested", "--into", "out", "--clash", "replace", "--layout", layout)
			assert.Equal(t, 9, code, "%s, %s: %s", name, layout, stderr)
			assert.Equal(t, before, tree(t, filepath.Join(dir, "out")), "%s, %s", name, layout)
		}
	}
	_, _, code := run(t, dir, "extract", "...zip", "--into", "out2", "--own-name", "{stem}-x")
	assert.Equal(t, 0, code, "with a name of its own it is harmless")

	// What something else put there is neither believed nor taken away.
	for path, data := range map[string]string{area + "/owner": `{"host":"","pid":1,"root":"out3","identity":"1","key":"k"}`, area + "/1-journal": journal, area + "/1-0": "forged", "honest/h.txt": "mine"} {
		put(t, filepath.Join(dir, "out3", path), data)
	}
	before := tree(t, filepath.Join(dir, "out3"))
	pack(t, filepath.Join(dir, "new.zip"), "n", "1")
	_, stderr, code := run(t, dir, "extract", "new.zip", "--into", "out3", "--layout", "shared")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stderr, area+" looks like the unfinished work of a run")
	before["n"] = "1"
	assert.Equal(t, before, tree(t, filepath.Join(dir, "out3")))
}

// What a small archive promises takes neither time nor room.
func TestCheapPromises(t *testing.T) {
	systemtest.Long(t, "gigabytes of holes")
	dir := t.TempDir()
	sparse := func(size int64) func(w *tar.Writer) {
		return func(w *tar.Writer) {
			records := fmt.Sprintf("22 GNU.sparse.major=1\n%d GNU.sparse.realsize=%d\n", 24+len(fmt.Sprint(size)), size)
			require.NoError(t, w.AddRaw(header('x', "pax", len(records)), int64(len(records)), strings.NewReader(records)))
			_, err := w.Add(archive.Entry{Path: "sparse", Size: 516}, strings.NewReader("1\n1000\n4\n"+strings.Repeat("\x00", 503)+"data"))
			require.NoError(t, err)
		}
	}
	tarOf(t, filepath.Join(dir, "bomb.tar"), sparse(1<<59))
	tarOf(t, filepath.Join(dir, "image.tar"), sparse(3<<40))
	tarOf(t, filepath.Join(dir, "small.tar"), sparse(1<<29))
	tarOf(t, filepath.Join(dir, "links.tar"), func(w *tar.Writer) {
		for i := range 20_000 {
			name := func(kind string, i int) string { return fmt.Sprintf("%s/%d", kind, i) }
			for _, e := range []archive.Entry{{Path: name("f", i)}, {Path: name("l", i), Kind: archive.Hardlink, Link: name("f", i)}, {Path: name("m", i), Kind: archive.Hardlink, Link: "f/0"}} {
				_, err := w.Add(e, strings.NewReader(""))
				require.NoError(t, err)
			}
		}
	})
	tarOf(t, filepath.Join(dir, "deep.tar"), func(w *tar.Writer) {
		for i := range 3000 {
			_, err := w.Add(archive.Entry{Path: strings.Repeat(fmt.Sprintf("%d/", i), 250) + "f"}, strings.NewReader(""))
			require.NoError(t, err)
		}
	})
	for _, name := range []string{"bomb", "image", "small", "deep"} {
		data, err := os.ReadFile(filepath.Join(dir, name+".tar"))
		require.NoError(t, err)
		var b bytes.Buffer
		m, _ := codec.ByName(codec.Gzip)
		w, err := m.Encode(&b, codec.EncodeOptions{})
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		put(t, filepath.Join(dir, name+".tar.gz"), b.String())
	}
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{9, "unpacks to more than", []string{"bomb.tar"}},
		{9, "unpacks to more than", []string{"bomb.tar.gz"}},
		{9, "unpacks to more than", []string{"image.tar", "--max-ratio", "1000000"}},
		{9, "unpacks to more than", []string{"image.tar.gz", "--max-total", "1T", "--max-ratio", "1000000000000"}},
		{0, "", []string{"image.tar.gz", "--max-ratio", "1000000000000"}},
		{0, "", []string{"image.tar", "--max-ratio", "1000000000000"}},
		{0, "", []string{"small.tar"}},
		{0, "", []string{"links.tar"}},
		{9, "more than 268435456 bytes together", []string{"deep.tar.gz"}},
		{9, "more than 268435456 bytes together", []string{"deep.tar"}},
	} {
		began := time.Now()
		_, stderr, code := run(t, dir, append([]string{"extract", "--into", "out"}, c.args...)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, stderr)
		assert.Contains(t, stderr, c.says)
		assert.Less(t, time.Since(began), time.Minute, "%v", c.args)
		if c.code == 0 && c.args[0] != "links.tar" {
			path := filepath.Join(dir, "out", strings.TrimSuffix(strings.TrimSuffix(c.args[0], ".gz"), ".tar"), "sparse")
			f, err := os.Open(path)
			require.NoError(t, err)
			var read [6]byte
			_, err = f.ReadAt(read[:], 999)
			require.NoError(t, err)
			assert.Equal(t, "\x00data\x00", string(read[:]))
			require.NoError(t, f.Close())
			require.NoError(t, os.Remove(path))
		}
	}
	began := time.Now()
	_, _, code := run(t, dir, "verify", "bomb.tar")
	assert.Equal(t, 0, code)
	for _, name := range []string{"bomb.tar", "bomb.tar.gz"} {
		_, stderr, code := run(t, dir, "verify", name, "--sums", "sums")
		assert.Equal(t, 9, code, stderr)
	}
	_, _, code = run(t, dir, "convert", "bomb.tar", "--to", "zip", "--into", "out")
	assert.Equal(t, 9, code)
	assert.Less(t, time.Since(began), time.Minute)
}

// header is a plain header of a tar.
func header(kind byte, name string, size int) []byte {
	b := make([]byte, 512)
	copy(b, name)
	copy(b[100:], "0000644\x00")
	copy(b[124:], fmt.Sprintf("%011o\x00", size))
	copy(b[148:], "        ")
	b[156] = kind
	copy(b[257:], "ustar\x0000")
	sum := 0
	for _, c := range b {
		sum += int(c)
	}
	copy(b[148:], fmt.Sprintf("%06o\x00 ", sum))
	return b
}

// An entry with more data than its record says is damage in convert too.
func TestConvertKnowsDamage(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "x.zip"), "a.csv", strings.Repeat("1,2\n", 50))
	data, err := os.ReadFile(filepath.Join(dir, "x.zip"))
	require.NoError(t, err)
	for _, at := range []int{22, bytes.Index(data, []byte("PK\x01\x02")) + 24} { // the size, in both headers
		data[at]--
	}
	put(t, filepath.Join(dir, "x.zip"), string(data))
	for _, to := range []string{"tar", "zip", "tar.gz"} {
		_, stderr, code := run(t, dir, "convert", "x.zip", "--to", to, "--into", "out", "--method", "store")
		if to != "zip" {
			_, stderr, code = run(t, dir, "convert", "x.zip", "--to", to, "--into", "out")
		}
		assert.Equal(t, 7, code, "%s: %s", to, stderr)
	}
}

// A changed bit that makes a link of a file is noticed, though kinds have no checksum.
func TestTextThatBecameALink(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "levels.csv"), "time,level\n12:00,2600\n")
	_, stderr, code := run(t, dir, "create", "a.zip", "levels.csv")
	require.Zero(t, code, stderr)
	data, err := os.ReadFile(filepath.Join(dir, "a.zip"))
	require.NoError(t, err)
	at := bytes.Index(data, []byte("PK\x01\x02")) + 41 // the kind, in the external attributes (4.3.12)
	require.Equal(t, byte(0x80), data[at]&0xf0)
	data[at] |= 0x20
	put(t, filepath.Join(dir, "a.zip"), string(data))
	for _, args := range [][]string{{"extract", "a.zip", "--into", "out"}, {"verify", "a.zip"}, {"convert", "a.zip", "--to", "tar", "--into", "out"}} {
		_, stderr, code := run(t, dir, args...)
		assert.Equal(t, 7, code, args)
		assert.Contains(t, stderr, "levels.csv: its kind is link, and its data is no path", args)
	}
	assert.NoFileExists(t, filepath.Join(dir, "out/a/levels.csv"))
}
