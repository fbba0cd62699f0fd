package e2e

import (
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
		assert.Contains(t, stdout, "3 files got names that every system can hold, percent-encoded")
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
