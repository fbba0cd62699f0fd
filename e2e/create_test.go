package e2e

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// What goes in comes back, in every format and with every method, level and
// number of workers.
func TestCreateEverything(t *testing.T) {
	dir := tidewatch(t)
	big := strings.Repeat("2026-05-01T00:00Z,2600,good\n", 100_000)
	put(t, filepath.Join(dir, "in/big.csv"), big)
	put(t, filepath.Join(dir, "in/deep/küste.csv"), "1")
	put(t, filepath.Join(dir, "in/empty"), "")
	require.NoError(t, os.Symlink("big.csv", filepath.Join(dir, "in/link")))
	for _, args := range [][]string{{"a.zip"}, {"b.tar"}, {"c.tar.gz", "--level", "1"}, {"d.tar.zst", "--level", "best"}, {"e.tar.xz", "--level", "fast"},
		{"f.tar.bz2", "--workers", "1"}, {"g.tar.lz4"}, {"h.zip", "--method", "zstd"}, {"i.zip", "--method", "xz", "--level", "2"}, {"j.zip", "--level", "0"},
		{"k.zip", "--method", "bzip2", "--workers", "5"}, {"l.data", "--format", "tar.gz"}, {"m.data", "--format", "zip"}} {
		_, stderr, code := run(t, dir, append([]string{"create", args[0], "in", "--read-back"}, args[1:]...)...)
		require.Equal(t, 0, code, "%q: %s", args, stderr)
		_, stderr, code = run(t, dir, "compare", args[0], "in", "--peel-a", "1", "--times")
		assert.Equal(t, 0, code, "%q: %s", args, stderr)
	}
	_, stderr, code := run(t, dir, "create", "big.csv.zst", "in/big.csv", "--read-back")
	assert.Equal(t, 0, code, stderr)

	for name, args := range map[string][]string{
		"unknown format":    {"x.abc", "in"},
		"unknown method":    {"x.zip", "in", "--method", "shrink"},
		"no method":         {"x.tar.gz", "in", "--method", "deflate"},
		"bad level":         {"x.zip", "in", "--level", "11"},
		"no source":         {"x.zip"},
		"bad text":          {"x.zip", "--text", "no equals sign"},
		"path out of it":    {"x.zip", "--text", "../x=1"},
		"two with one path": {"x.zip", "--text", "a=1", "--text", "a=2"},
		"not below":         {"x.zip", "in", "--relative-to", "readings"},
		"lock a tar":        {"x.tar", "in", "--encrypt", "--password-file", "tidewatch.txt"},
		"several passwords": {"x.zip", "in", "--encrypt", "--password-file", "tidewatch.txt"},
		"password alone":    {"x.zip", "in", "--password-file", "tidewatch.txt"},
		"terminal format":   {"-", "in"},
		"two in one":        {"{from}.zip", "in", "readings", "--each"},
	} {
		_, stderr, code := run(t, dir, append([]string{"create"}, args...)...)
		assert.Equal(t, 2, code, "%s: %s", name, stderr)
	}
	left, err := filepath.Glob(filepath.Join(dir, "x.*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Paths in the archive are those that were asked for.
func TestCreatePaths(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	for _, path := range []string{"in/a.csv", "in/sub/b.csv", "other/c=d.csv"} {
		put(t, filepath.Join(dir, path), path)
	}
	require.NoError(t, os.Symlink("../../other", filepath.Join(dir, "in/sub/there")))
	for _, c := range []struct{ args, want string }{
		{"in", "in/ in/a.csv in/sub/ in/sub/b.csv in/sub/there"},
		{"in --top drop --links skip", "a.csv sub/ sub/b.csv"},
		{"in --links follow --top drop", "a.csv sub/ sub/b.csv sub/there/ sub/there/c=d.csv"},
		{"in/sub --relative-to . --links skip", "in/sub/ in/sub/b.csv"},
		{"in --under x/y --top drop --ext csv", "x/y/a.csv x/y/sub/b.csv"},
		{"--put other/c=d.csv=p/q.csv --text t/u=v=w", "p/q.csv t/u"},
		{"in/a.csv --put in=whole --links skip", "a.csv whole/ whole/a.csv whole/sub/ whole/sub/b.csv"},
	} {
		args := strings.Fields(c.args)
		_, stderr, code := run(t, dir, append([]string{"create", "x.zip", "--clash", "replace"}, args...)...)
		require.Equal(t, 0, code, stderr)
		stdout, _, _ := run(t, dir, "inspect", "x.zip", "--as", "names", "--sort", "path")
		assert.Equal(t, c.want, strings.Join(strings.Fields(stdout), " "), c.args)
	}
	require.NoError(t, os.Symlink("..", filepath.Join(dir, "in/sub/up")))
	_, stderr, code := run(t, dir, "create", "loop.zip", "in", "--links", "follow")
	assert.Equal(t, 8, code)
	assert.Contains(t, stderr, "leads back to a folder that it is in")
}

// Streams go in by a path and out in order; texts need no file.
func TestCreateStreams(t *testing.T) {
	dir := tidewatch(t)
	for _, format := range []string{"zip", "tar", "tar.gz"} {
		cmd := exec.Command(program, "create", "-", "corrections", "--format", format, "--stdin-as", "in/data.txt")
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(strings.Repeat("level ", 400_000))
		out, err := cmd.Output()
		require.NoError(t, err)
		put(t, filepath.Join(dir, "x."+format), string(out))
		stdout, stderr, code := run(t, dir, "extract", "x."+format, "--into", "-", "--entry", "in/data.txt")
		assert.Equal(t, 0, code, stderr)
		assert.Len(t, stdout, 2_400_000)
		_, stderr, code = run(t, dir, "verify", "x."+format)
		assert.Equal(t, 0, code, stderr)
	}
}

// The same files make the same bytes.
func TestReproducible(t *testing.T) {
	for _, name := range []string{"x.zip", "x.tar", "x.tar.gz", "x.tar.xz", "x.tar.zst", "x.tar.bz2", "x.tar.lz4"} {
		var first string
		for n, workers := range []string{"1", "2", "8"} {
			dir := t.TempDir()
			names := []string{"b", "a", "c/d"}
			if n == 1 {
				names = []string{"c/d", "a", "b"}
			}
			for _, path := range names {
				put(t, filepath.Join(dir, "in", path), strings.Repeat(path+" level\n", 120_000))
			}
			require.NoError(t, os.Chtimes(filepath.Join(dir, "in/a"), time.Now(), time.Unix(int64(n)*1e8, 5)))
			require.NoError(t, os.Link(filepath.Join(dir, "in/b"), filepath.Join(dir, "in/z")))
			_, stderr, code := run(t, dir, "create", name, "in", "--reproducible", "--workers", workers)
			require.Equal(t, 0, code, stderr)
			data, err := os.ReadFile(filepath.Join(dir, name))
			require.NoError(t, err)
			if first == "" {
				first = string(data)
			}
			assert.True(t, first == string(data), "%s with %s workers", name, workers)
		}
	}
	dir := tidewatch(t)
	t.Setenv("SOURCE_DATE_EPOCH", "1777000000")
	put(t, filepath.Join(dir, "in/day/levels.csv"), "2026-05-01T00:00Z,2600,good\n")
	require.NoError(t, os.Link(filepath.Join(dir, "in/day/levels.csv"), filepath.Join(dir, "in/also.csv")))
	for name, sum := range map[string]string{
		"same.zip": "19c4d94f3c76b2e57d456813f139b438b49ab8887a473d91e04a0b52c6783b7b",
		"same.tar": "9eab41e4e62cfac79acf7a1f32272b42aea47f553ea930f35ed86ca228ca7660",
	} { // on every system
		_, stderr, code := run(t, dir, "create", name, "in", "--reproducible", "--level", "0")
		require.Equal(t, 0, code, stderr)
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, sum, fmt.Sprintf("%x", sha256.Sum256(data)), name)
	}
	_, stderr, code := run(t, dir, "create", "x.tar", "corrections", "--reproducible")
	require.Equal(t, 0, code, stderr)
	stdout, _, _ := run(t, dir, "inspect", "x.tar", "--as", "json", "--zone", "UTC")
	assert.Equal(t, 3, strings.Count(stdout, `"2026-04-24T03:06:40Z"`), stdout)
}

// Sources are removed only when all of them are in an archive that was read back.
func TestCreateAndRemove(t *testing.T) {
	dir := tidewatch(t)
	_, stderr, code := run(t, dir, "create", "kept.zip", "corrections", "--after", "remove", "--drop", "*v2*")
	assert.Equal(t, 0, code, stderr)
	assert.DirExists(t, filepath.Join(dir, "corrections"))
	stdout, stderr, code := run(t, dir, "create", "gone.tar.gz", "corrections", "--after", "remove")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "3 entries read back")
	assert.NoDirExists(t, filepath.Join(dir, "corrections"))

	put(t, filepath.Join(dir, "things/a.b/x"), "1")
	put(t, filepath.Join(dir, "things/c.txt"), "2")
	put(t, filepath.Join(dir, "things/.hidden"), "3")
	_, stderr, code = run(t, dir, "create", "each/{stem}.zip", "--each-in", "things", "--sums", "each/sums", "--entry-sums", "entries")
	require.Equal(t, 0, code, stderr)
	assert.Equal(t, []string{"a.b.zip", "c.zip", "sums"}, slices.Sorted(maps.Keys(tree(t, filepath.Join(dir, "each")))))
	_, stderr, code = run(t, dir, "verify", "each", "--check-sums", "each/sums")
	assert.Equal(t, 0, code, stderr)
	listed, err := os.ReadFile(filepath.Join(dir, "entries"))
	require.NoError(t, err)
	assert.Contains(t, string(listed), "  each/a.b.zip/a.b/x\n")
	stdout, _, _ = run(t, dir, "create", "dry/{name}.zip", "--each-in", "things", "--folders-only", "--dry-run", "--as", "names")
	assert.Equal(t, filepath.Join(dir, "dry/a.b.zip")+"\n", stdout)
	stdout, stderr, code = run(t, dir, "create", "days/{stem}.tar", "readings/osk-bay-2026-05-01.zip", "readings/osk-bay-2026-05-02.zip", "missing", "--each", "--as", "names")
	assert.Equal(t, 8, code, "one that is missing does not stop the others")
	assert.Contains(t, stderr, "missing")
	assert.Len(t, strings.Fields(stdout), 2)
	for n := 1; n < 3; n++ {
		assert.FileExists(t, filepath.Join(dir, fmt.Sprintf("days/osk-bay-2026-05-0%d.tar", n)))
	}
	_, stderr, code = run(t, dir, "create", "days/{from}.tar", "readings/osk-bay-2026-05-01.zip", "readings/osk-bay-2026-05-02.zip", "--each", "--clash", "number")
	assert.Equal(t, 0, code, stderr)
	assert.FileExists(t, filepath.Join(dir, "days/readings-2.tar"))
}

// What is locked opens with the password alone.
func TestEncrypt(t *testing.T) {
	dir := tidewatch(t)
	t.Setenv("GAUGE", "gezeiten")
	_, stderr, code := run(t, dir, "create", "locked.zip", "readings", "--encrypt", "--password-env", "GAUGE", "--text", "long.txt="+strings.Repeat("level ", 20_000), "--read-back")
	require.Equal(t, 0, code, stderr)
	_, _, code = run(t, dir, "verify", "locked.zip")
	assert.Equal(t, 5, code)
	t.Setenv("WRONG", "falsch")
	_, _, code = run(t, dir, "verify", "locked.zip", "--password-env", "WRONG")
	assert.Equal(t, 5, code)
	_, stderr, code = run(t, dir, "compare", "locked.zip", "readings", "--password-env", "GAUGE", "--peel-a", "1", "--drop", "long.txt")
	assert.Equal(t, 0, code, stderr)
	data, err := os.ReadFile(filepath.Join(dir, "locked.zip"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "level level")
}
