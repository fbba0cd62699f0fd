package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"widecrate/core/archive"
	"widecrate/core/codec/codectest"
	"widecrate/core/format/tar"
	"widecrate/demo"
)

// Files of compress, members of gzip with names of their own, and a tar in volumes, as every other
// archive: listed, checked, unpacked and converted.
func TestOldFormats(t *testing.T) {
	dir := t.TempDir()
	content := strings.Repeat("2026-05-01T00:00Z,2601\n", 3000)
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, path := range []string{"a.csv", "b.csv"} {
		_, err := w.Add(archive.Entry{Path: path, Size: int64(len(content))}, strings.NewReader(content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	put(t, filepath.Join(dir, "in/one.csv.Z"), string(codectest.Compress([]byte(content), 16, true)))
	put(t, filepath.Join(dir, "in/two.tar.Z"), string(codectest.Compress(b.Bytes(), 12, false)))
	put(t, filepath.Join(dir, "in/three.TAZ"), string(codectest.Compress(b.Bytes(), 9, true)))
	put(t, filepath.Join(dir, "in/SIX.TAR.Z"), string(codectest.Compress(b.Bytes(), 16, true)))
	put(t, filepath.Join(dir, "in/notes.z"), "a small z is that of other files")
	var members bytes.Buffer
	for _, name := range []string{"x.csv", "y.csv"} {
		z := gzip.NewWriter(&members)
		z.Name = name
		_, err := io.WriteString(z, name+content)
		require.NoError(t, err)
		require.NoError(t, z.Close())
	}
	put(t, filepath.Join(dir, "in/four.gz"), members.String())
	rest := make([]byte, 512) // of b.csv, which starts in the first volume
	for at, text := range map[int]string{0: "b.csv", 100: "0000644\x00", 124: "00000000000\x00", 136: "00000000000\x00", 148: "        ", 156: "M"} {
		copy(rest[at:], text)
	}
	sum := 0
	for _, c := range rest {
		sum += int(c)
	}
	copy(rest[148:], fmt.Sprintf("%06o\x00", sum))
	put(t, filepath.Join(dir, "tapes/five-1.tar"), b.String()[:80<<10])
	put(t, filepath.Join(dir, "tapes/five-2.tar"), string(rest)+b.String()[80<<10:])

	want := shortened(map[string]string{"one.csv/": "", "one.csv/one.csv": content, "two/": "", "two/a.csv": content, "two/b.csv": content, "three/": "", "three/a.csv": content, "three/b.csv": content,
		"four/": "", "four/x.csv": "x.csv" + content, "four/y.csv": "y.csv" + content, "SIX/": "", "SIX/a.csv": content, "SIX/b.csv": content, "five/": "", "five/a.csv": content, "five/b.csv": content})
	sources := []string{"in", "tapes", "--series", "five-{n}.tar"}
	for _, line := range [][]string{{"extract", "--into", "out"}, {"verify"}, {"inspect"}, {"convert", "--to", "tar", "--into", "tars"}} {
		out, stderr, code := run(t, dir, append(append(line[:1:1], sources...), line[1:]...)...)
		require.Zero(t, code, "%s: %s%s", line, out, stderr)
	}
	require.Equal(t, want, shortened(tree(t, filepath.Join(dir, "out"))))
	_, stderr, code := run(t, dir, "extract", "tars", "--into", "again")
	require.Zero(t, code, stderr)
	assert.Equal(t, want, shortened(tree(t, filepath.Join(dir, "again"))))

	_, stderr, code = run(t, dir, "extract", "tapes/five-2.tar", "--into", "out")
	assert.Equal(t, 4, code)
	assert.Contains(t, stderr, `it starts with the rest of "b.csv"`)
	assert.Contains(t, stderr, "--series")
	_, stderr, code = run(t, dir, "create", "new.tar.Z", "in")
	assert.Equal(t, 2, code, stderr)
}

// shortened has in place of long contents how long they are, and how they start.
func shortened(tree map[string]string) map[string]string {
	for path, data := range tree {
		if len(data) > 100 {
			tree[path] = fmt.Sprintf("%.10s, %d, %x", data, len(data), crc32.ChecksumIEEE([]byte(data)))
		}
	}
	return tree
}

// Where a file holds more than the archive that is read, that is said, and the file stays.
func TestMoreThanRead(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "one.zip"), "a.csv", "1")
	pack(t, filepath.Join(dir, "two.zip"), "b.csv", "2")
	one, err := os.ReadFile(filepath.Join(dir, "one.zip"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(dir, "two.zip"))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		data, says string
		stays      bool
	}{
		"both.zip":  {string(one) + string(two), "several ZIP archives", true},
		"cut.zip":   {string(two) + string(one[:40]), "another one starts", true},
		"setup.exe": {"MZ" + strings.Repeat("\x00", 70_000) + string(two), "self-extracting", false},
	} {
		path := filepath.Join(dir, name)
		put(t, path, c.data)
		for _, line := range [][]string{{"inspect"}, {"verify"}, {"extract", "--into", "out-" + name}} {
			out, stderr, code := run(t, dir, append([]string{line[0], name}, line[1:]...)...)
			require.Zero(t, code, stderr)
			assert.Contains(t, out, c.says, line)
		}
		out, stderr, code := run(t, dir, "extract", name, "--into", "json-"+name, "--as", "json")
		require.Zero(t, code, stderr)
		assert.Contains(t, out, `"remarks":["`)
		_, stderr, code = run(t, dir, "edit", name, "--text", "c.csv=3")
		assert.Equal(t, 3, code, stderr)
		for _, line := range [][]string{{"convert", "--to", "tar", "--into", "tars"}, {"extract", "--into", "new-" + name}} {
			put(t, path, c.data)
			_, stderr, code := run(t, dir, append([]string{line[0], name, "--after", "remove"}, line[1:]...)...)
			require.Zero(t, code, stderr)
			_, err := os.Stat(path)
			assert.Equal(t, c.stays, err == nil, "%s of %s", line[0], name)
			_, stderr, code = run(t, dir, append([]string{line[0], name, "--after", "remove", "--even-if-partial", "--clash", "replace"}, line[1:]...)...)
			if c.stays {
				require.Zero(t, code, stderr)
				assert.NoFileExists(t, path)
			}
		}
	}
}

// A person sees what names would be in several encodings, and chooses one.
func TestNamesInDoubt(t *testing.T) {
	dir := t.TempDir()
	lay(t, filepath.Join(dir, "demo"))
	old := "demo/old/gauges-1994.zip"
	out, stderr, code := run(t, dir, "inspect", old, "--name-encoding", "all")
	require.Zero(t, code, stderr)
	assert.Contains(t, out, "2 of 3")
	assert.Contains(t, out, "cp866         УРОВНИ  ЗАЛИВ.CSV  ПРИЧАЛ.CSV\n")
	assert.Less(t, strings.Index(out, "cp866"), strings.Index(out, "koi8-r"), "what is all letters comes first")
	out, _, code = run(t, dir, "inspect", "demo/readings", "demo/old", "--name-encoding", "all", "--as", "json")
	require.Equal(t, 0, code)
	assert.Contains(t, out, `"in_doubt":0,"readings":[]`)
	assert.Contains(t, out, `{"encodings":["cp437","cp850"],"names":["`)
	for _, wrong := range [][]string{{"inspect", old, "--name-encoding", "all", "--totals"}, {"inspect", old, "--name-encoding", "all", "--as", "csv"}, {"extract", old, "--name-encoding", "all"}} {
		_, _, code := run(t, dir, wrong...)
		assert.Equal(t, 2, code, wrong)
	}
	out, stderr, code = run(t, dir, "extract", old, "--into", "guessed")
	require.Zero(t, code, stderr)
	assert.Equal(t, 1, strings.Count(out, "--name-encoding all"))
	_, stderr, code = run(t, dir, "extract", old, "--into", "known", "--name-encoding", "cp866")
	require.Zero(t, code, stderr)
	assert.Contains(t, tree(t, filepath.Join(dir, "known")), "gauges-1994/УРОВНИ/ЗАЛИВ.CSV")
	raw, err := charmap.CodePage866.NewEncoder().String("ЗАЛИВ")
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(dir, old))
	require.NoError(t, err)
	assert.Contains(t, string(data), raw)
}

// A dictionary is what some data needs, in every command that reads; without it, or with another,
// nothing of that is unpacked.
func TestDictionary(t *testing.T) {
	dir := t.TempDir()
	lay(t, dir)
	for _, line := range [][]string{{"extract", "logs", "--into", "out"}, {"inspect", "logs"}, {"verify", "logs"}, {"convert", "logs", "--to", "tar.gz", "--into", "new", "--clash", "replace"}, {"compare", "logs/pell-point.tar.zst", "logs/pell-point.tar.zst", "--times"}} {
		with := append(line, "--dictionary")
		for dictionary, want := range map[string]int{demo.Dictionary: 0, "readings/gull-ness-2026-05-01.zip": 4, "nowhere": 8, "tapes": 8} {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "tapes"), 0o777))
			out, stderr, code := run(t, dir, append(with, dictionary)...)
			assert.Equal(t, want, code, "%s %s: %s%s", line, dictionary, out, stderr)
		}
		_, stderr, code := run(t, dir, line...)
		assert.Equal(t, 4, code, "%s: %s", line, stderr)
		assert.Contains(t, stderr, "--dictionary FILE", line)
	}
	assert.Contains(t, tree(t, filepath.Join(dir, "out"))["pell-point/sensor.log"], "battery")
	_, stderr, code := run(t, dir, "edit", "logs/harrow-sound.tar.zst", "--text", "a=b", "--dictionary", demo.Dictionary)
	require.Zero(t, code, stderr)
	_, stderr, code = run(t, dir, "verify", "logs/harrow-sound.tar.zst")
	assert.Equal(t, 0, code, "what is written needs none: %s", stderr)
	put(t, filepath.Join(dir, "empty"), "")
	_, _, code = run(t, dir, "verify", "logs", "--dictionary", "empty")
	assert.Equal(t, 2, code)
}

// Files that others packed with old methods, long ago: pictures of the size that they say, and data
// with its checksum. WIDECRATE_PACKAGES is a folder with packages that have some.
func TestRealPackages(t *testing.T) {
	dir := t.TempDir()
	found := 0
	for _, c := range []struct{ pack, file, entry, says string }{
		{"savi", "usr/share/savi/oogl/Earth.ppm.Z", "Earth.ppm/Earth.ppm", ""},
		{"libsprng2-doc", "usr/share/doc/libsprng2-doc/DOCS/sprng.html.tar.Z", "sprng.html/www/sprng.html", ""},
		{"clamav-testfiles", "usr/share/clamav-testfiles/clam.impl.zip", "clam.impl/CLAM.EXE", "1 checked against a checksum"},
	} {
		packages, err := filepath.Glob(filepath.Join(os.Getenv("WIDECRATE_PACKAGES"), c.pack+"_*.deb"))
		require.NoError(t, err)
		if os.Getenv("WIDECRATE_PACKAGES") == "" || len(packages) == 0 {
			continue
		}
		found++
		_, stderr, code := run(t, dir, "extract", packages[0], "--into", "packed", "--flatten", "--layout", "shared", "--entry", c.file)
		require.Zero(t, code, stderr)
		file := filepath.Join("packed", filepath.Base(c.file))
		_, stderr, code = run(t, dir, "extract", file, "--into", "out")
		require.Zero(t, code, stderr)
		data := tree(t, filepath.Join(dir, "out"))[c.entry]
		out, stderr, code := run(t, dir, "verify", file)
		require.Zero(t, code, stderr)
		assert.Contains(t, out, c.says)
		switch {
		case strings.HasSuffix(c.entry, ".ppm"):
			var width, height int
			head, _, _ := strings.Cut(data[strings.Index(data, "\n")+1:], "\n255\n")
			for strings.HasPrefix(head, "#") {
				_, head, _ = strings.Cut(head, "\n")
			}
			_, err := fmt.Sscan(head, &width, &height)
			require.NoError(t, err)
			assert.Equal(t, 3*width*height, len(data)-strings.Index(data, "\n255\n")-5)
		case c.says == "":
			assert.Contains(t, strings.ToLower(data[max(0, len(data)-20):]), "</html>", c.entry)
		}
	}
	if found == 0 {
		t.Skip("there are no packages: WIDECRATE_PACKAGES names no folder with some")
	}
}
