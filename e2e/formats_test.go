package e2e

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format/tar"
	"widecrate/core/systemtest"
)

// Every format that is written comes back as it was: by its content, under a
// name that says nothing.
func TestRoundTrips(t *testing.T) {
	dir := t.TempDir()
	for path, data := range map[string]string{
		"in/empty": "", "in/one": "1", "in/text.csv": strings.Repeat("2026-05-01,2601\n", 40_000), "in/noise": noise(300_000),
		"in/512": strings.Repeat("x", 512), "in/küste/潮 位/" + strings.Repeat("deep/", 30) + "x.csv": "deep", "in/Гавань.txt": "3",
	} {
		put(t, filepath.Join(dir, path), data)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in/nothing"), 0o777))
	require.NoError(t, os.Link(filepath.Join(dir, "in/one"), filepath.Join(dir, "in/two")))
	links := systemtest.HasLinks(t)
	if links {
		require.NoError(t, os.Symlink("one", filepath.Join(dir, "in/link")))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "in/one"), 0o750))
	want := tree(t, filepath.Join(dir, "in"))
	for i, ext := range []string{"zip", "tar", "tar.gz", "tgz", "tar.zst", "tar.bz2", "tar.xz", "txz", "tar.lz4", "tar.zz"} {
		t.Run(ext, func(t *testing.T) {
			if i%systemtest.Rounds(3, 2, 1) != 0 {
				t.Skip("many files")
			}
			_, stderr, code := run(t, dir, "create", "x."+ext, "in")
			require.Equal(t, 0, code, stderr)
			require.NoError(t, os.Rename(filepath.Join(dir, "x."+ext), filepath.Join(dir, "file")))
			names, _, code := run(t, dir, "inspect", "file", "--as", "names")
			assert.Equal(t, 0, code)
			assert.Equal(t, len(want)+1, strings.Count(names, "\n"))
			for _, layout := range []string{"own", "shared"} {
				out := filepath.Join("out", ext, layout)
				told, _, _ := run(t, dir, "extract", "file", "--into", out, "--layout", layout, "--as", "json", "--dry-run")
				done, stderr, code := run(t, dir, "extract", "file", "--into", out, "--layout", layout, "--as", "json")
				require.Equal(t, 0, code, stderr)
				assert.Equal(t, strings.Count(told, `"added"`), strings.Count(done, `"added"`))
				got := filepath.Join(dir, out, "in")
				if layout == "own" {
					got = filepath.Join(dir, out, "file", "in")
				}
				require.Equal(t, want, tree(t, got))
				if links {
					target, err := os.Readlink(filepath.Join(got, "link"))
					assert.Equal(t, "one", target, err)
				}
				for _, path := range []string{"one", "text.csv", "nothing"} {
					a, err := os.Stat(filepath.Join(dir, "in", path))
					require.NoError(t, err)
					b, err := os.Stat(filepath.Join(got, path))
					require.NoError(t, err)
					assert.Equal(t, a.Mode(), b.Mode(), path)
					assert.Equal(t, a.ModTime().Unix(), b.ModTime().Unix(), path)
				}
				again, _, code := run(t, dir, "extract", "file", "--into", out, "--layout", layout)
				assert.Equal(t, 0, code)
				assert.Contains(t, again, "0 files, 0 B written")
				again, _, _ = run(t, dir, "extract", "file", "--into", out, "--layout", layout, "--dry-run")
				assert.Contains(t, again, "0 files, 0 B would be written", "the dry run knows as well")
			}
		})
	}
}

func TestCompressedFiles(t *testing.T) {
	dir := t.TempDir()
	data := strings.Repeat("2026-05-01,2601\n", 1000)
	put(t, filepath.Join(dir, "levels.csv"), data)
	for _, ext := range []string{"gz", "bz2", "xz", "zst", "lz4", "zz"} {
		_, stderr, code := run(t, dir, "create", "levels.csv."+ext, "levels.csv")
		require.Equal(t, 0, code, stderr)
		listing, _, _ := run(t, dir, "inspect", "levels.csv."+ext, "--as", "json")
		assert.Contains(t, listing, fmt.Sprintf(`"path":"levels.csv","type":"file","size":%d`, len(data)))
		_, stderr, code = run(t, dir, "extract", "levels.csv."+ext, "--into", ext)
		require.Equal(t, 0, code, stderr)
		assert.Equal(t, data, tree(t, filepath.Join(dir, ext))["levels.csv/levels.csv"])

		// Two streams, one after the other, are one file; a cut one is damaged.
		packed, err := os.ReadFile(filepath.Join(dir, "levels.csv."+ext))
		require.NoError(t, err)
		if ext != "zz" {
			put(t, filepath.Join(dir, "twice"), string(packed)+string(packed))
			twice, stderr, code := run(t, dir, "extract", "twice", "--into", "-", "-q")
			assert.Equal(t, 0, code, stderr)
			assert.Equal(t, data+data, twice, ext)
		}
		put(t, filepath.Join(dir, "cut"), string(packed[:len(packed)-5]))
		_, stderr, code = run(t, dir, "extract", "cut", "--into", "nowhere")
		assert.Equal(t, 7, code, stderr)
		assert.NoDirExists(t, filepath.Join(dir, "nowhere"))
	}
	_, stderr, code := run(t, dir, "create", "two.gz", "levels.csv", "levels.csv.gz")
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "holds one file and nothing else")
	assert.NoFileExists(t, filepath.Join(dir, "two.gz"))
}

// Archives inside a tar, and a tar inside a ZIP, are unpacked through.
func TestNestedTars(t *testing.T) {
	dir := tidewatch(t)
	for _, ext := range []string{"tar.gz", "tar", "zip"} {
		_, _, code := run(t, dir, "create", "inner."+ext, "corrections")
		require.Equal(t, 0, code)
		_, _, code = run(t, dir, "create", "outer."+ext+".tar.zst", "inner."+ext)
		require.Equal(t, 0, code)
		_, stderr, code := run(t, dir, "extract", "outer."+ext+".tar.zst", "--nested", "--into", "out", "--ext", "csv")
		require.Equal(t, 0, code, stderr)
		assert.Contains(t, tree(t, filepath.Join(dir, "out")), "outer."+ext+"/inner/corrections/osk bay [v1]/levels.csv")
		names, stderr, code := run(t, dir, "inspect", "outer."+ext+".tar.zst", "--nested", "--as", "names", "--ext", "csv")
		assert.Equal(t, "levels.csv\nlevels.csv\n", names, stderr)
		assert.Equal(t, 0, code)
	}
}

// Hard links become second names of one file, or a copy where the other is not
// kept; links to what is left out of a stream are counted.
func TestHardLinks(t *testing.T) {
	dir := t.TempDir()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, e := range []archive.Entry{{Path: "d/one", Size: 3}, {Path: "two", Kind: archive.Hardlink, Link: "d/one"}, {Path: "three", Kind: archive.Hardlink, Link: "two"}} {
		_, err := w.Add(e, strings.NewReader("123"))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	put(t, filepath.Join(dir, "x.tar"), b.String())
	var z bytes.Buffer
	enc, err := zstd.NewWriter(&z)
	require.NoError(t, err)
	_, err = enc.Write(b.Bytes())
	require.NoError(t, err)
	require.NoError(t, enc.Close())
	put(t, filepath.Join(dir, "y.tar.zst"), z.String())
	for _, name := range []string{"x.tar", "y.tar.zst"} {
		stem, _, _ := strings.Cut(name, ".")
		_, stderr, code := run(t, dir, "extract", name)
		require.Equal(t, 0, code, stderr)
		assert.Equal(t, map[string]string{"d/": "", "d/one": "123", "two": "123", "three": "123"}, tree(t, filepath.Join(dir, stem)))
		one, err := os.Stat(filepath.Join(dir, stem, "d/one"))
		require.NoError(t, err)
		for _, other := range []string{"two", "three"} {
			info, err := os.Stat(filepath.Join(dir, stem, other))
			require.NoError(t, err)
			assert.True(t, os.SameFile(one, info), "%s %s", name, other)
		}
		again, _, code := run(t, dir, "extract", name, "--dry-run")
		assert.Equal(t, 0, code)
		assert.Contains(t, again, "3 already there")
		stdout, _, code := run(t, dir, "extract", name, "--into", "some", "--pick", "t*", "--as", "json")
		some := tree(t, filepath.Join(dir, "some", stem))
		if name == "x.tar" {
			assert.Equal(t, 0, code)
			assert.Equal(t, map[string]string{"two": "123", "three": "123"}, some)
		} else { // what they are names of has passed by
			assert.Equal(t, 6, code)
			assert.Contains(t, stdout, `"link":`)
		}
	}
}
