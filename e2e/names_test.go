package e2e

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Names that some system cannot hold are changed where that is asked for, in a dry run
// as well, and this is said; a system that cannot hold one says so otherwise.
func TestPortableNames(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "gauges.zip"), "08:30.csv", "a", "day/Readme", "b", "day/README", "c", "con/x. ", "d", "plain.csv", "e")
	want := map[string]string{"08%3A30.csv": "a", "day/": "", "day/Readme": "b", "day/%52EADME": "c", "%63on/": "", "%63on/x.%20": "d", "plain.csv": "e"}

	for _, args := range [][]string{{"--dry-run"}, {"-v"}, {"--layout", "own", "--clash", "refuse"}} {
		stdout, stderr, code := run(t, dir, append([]string{"extract", "gauges.zip", "--into", "out", "--names", "portable", "--color", "never"}, args...)...)
		require.Zero(t, code, stderr)
		assert.Contains(t, stdout, "3 files renamed, percent-encoded, so that every system can hold the names")
		if args[0] == "-v" || args[0] == "--dry-run" {
			assert.Regexp(t, `  08%3A30\.csv +for 08:30\.csv`, stdout)
			assert.NotContains(t, stdout, "for plain.csv")
		}
		if args[0] == "--dry-run" {
			assert.NoDirExists(t, filepath.Join(dir, "out"))
		}
	}
	assert.Equal(t, want, tree(t, filepath.Join(dir, "out", "gauges")))

	_, stderr, code := run(t, dir, "extract", "gauges.zip", "--into", "as-is", "--names", "as-is")
	if runtime.GOOS == "windows" {
		assert.Equal(t, 3, code, stderr)
		assert.Contains(t, stderr, "cannot hold the name")
		assert.Contains(t, stderr, "--names portable")
		assert.NoDirExists(t, filepath.Join(dir, "as-is"))
	} else if runtime.GOOS == "linux" {
		require.Zero(t, code, stderr)
		assert.Contains(t, tree(t, filepath.Join(dir, "as-is", "gauges")), "con/x. ")
	}

	// A conversion has no disk to ask, and keeps names everywhere.
	_, stderr, code = run(t, dir, "convert", "gauges.zip", "--to", "tar.gz", "--into", "made")
	require.Zero(t, code, stderr)
	stdout, stderr, code := run(t, dir, "inspect", filepath.Join("made", "gauges.tar.gz"), "--as", "names", "--sort", "path")
	require.Zero(t, code, stderr)
	assert.Equal(t, "08:30.csv\ncon/x. \nday/README\nday/Readme\nplain.csv\n", stdout)
	stdout, stderr, code = run(t, dir, "compare", "gauges.zip", filepath.Join("out", "gauges"))
	assert.Equal(t, 1, code, stderr)
	assert.Contains(t, stdout, "08%3A30.csv")
}

// Names that are no UTF-8 go through archives and receipts as they are.
func TestForeignNames(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("names here are text")
	}
	dir := t.TempDir()
	name := "k\xfcste.csv"
	put(t, filepath.Join(dir, "in", name), "1")
	for _, format := range []string{"x.tar.gz", "x.zip"} {
		_, stderr, code := run(t, dir, "create", format, "in", "--top", "drop", "--receipt", "made.jsonl")
		require.Zero(t, code, stderr)
		for _, says := range []string{"1 archive unpacked", "1 done before"} {
			stdout, stderr, code := run(t, dir, "extract", format, "--into", "out-"+format, "--name-encoding", "utf-8", "--receipt", "got.jsonl", "--skip-done")
			require.Zero(t, code, stderr)
			assert.Contains(t, stdout, says)
		}
		stdout, _, _ := run(t, dir, "inspect", format, "--name-encoding", "utf-8", "--as", "json")
		assert.Contains(t, stdout, `"path_bytes":"a/xzdGUuY3N2"`)
	}
	for _, list := range []string{"made.jsonl", "got.jsonl"} {
		_, stderr, code := run(t, dir, "verify", "--against", list)
		assert.Zero(t, code, stderr)
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "out-x.zip", "x", name)))
	stdout, _, code := run(t, dir, "verify", "--against", "got.jsonl", "--as", "json")
	assert.Equal(t, 7, code)
	assert.Contains(t, stdout, `"status":"missing"`)
}
