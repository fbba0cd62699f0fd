package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// holdOpen holds a file the way programs do that let nobody else replace it.
func holdOpen(t *testing.T, path string) *os.File {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// A file that another program has open is waited for, then named; nothing is half done.
func TestHeldFiles(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "levels.zip"), "a.csv", "new", "b.csv", "new")
	target := filepath.Join(dir, "out", "levels", "b.csv")
	put(t, target, "old")
	put(t, filepath.Join(dir, "out", "levels", "a.csv"), "old")
	before := tree(t, filepath.Join(dir, "out"))

	held := holdOpen(t, target)
	_, stderr, code := run(t, dir, "extract", "levels.zip", "--into", "out", "--clash", "replace")
	assert.Equal(t, 10, code)
	assert.Contains(t, stderr, "b.csv")
	assert.NotContains(t, stderr, ".widecrate-")
	assert.Equal(t, before, tree(t, filepath.Join(dir, "out")), "all as it was, and nothing left")

	_, stderr, code = run(t, dir, "extract", "levels.zip", "--into", "out", "--fresh")
	if code != 0 { // some systems move a folder that something in it is open in, some do not
		assert.Equal(t, 10, code)
		assert.NotContains(t, stderr, ".widecrate-")
		assert.Equal(t, before, tree(t, filepath.Join(dir, "out")))
	} else {
		assert.Equal(t, "new", tree(t, filepath.Join(dir, "out"))["levels/b.csv"])
	}
	held.Close()
	put(t, target, "old")
	held = holdOpen(t, target)
	time.AfterFunc(200*time.Millisecond, func() { held.Close() })
	_, stderr, code = run(t, dir, "extract", "levels.zip", "--into", "out", "--clash", "replace")
	require.Zero(t, code, stderr)
	assert.Equal(t, map[string]string{"levels/": "", "levels/a.csv": "new", "levels/b.csv": "new"}, tree(t, filepath.Join(dir, "out")))

	held = holdOpen(t, filepath.Join(dir, "levels.zip"))
	_, stderr, code = run(t, dir, "extract", "levels.zip", "--into", "out", "--after", "remove")
	assert.Equal(t, 10, code)
	assert.Contains(t, stderr, "levels.zip")
	held.Close()
	require.NoError(t, os.Chmod(target, 0o444))
	_, stderr, code = run(t, dir, "extract", "levels.zip", "--into", "out", "--after", "remove")
	require.Zero(t, code, stderr)
	assert.NoFileExists(t, filepath.Join(dir, "levels.zip"))
	info, err := os.Stat(target)
	require.NoError(t, err)
	assert.Zero(t, info.Mode()&0o200, "the mark is back")
}

// Stars, question marks, backslashes and letter case mean there what they do elsewhere
// on that system.
func TestWaysOfNaming(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "in", "Osk [v1].ZIP"), "x", "1")
	pack(t, filepath.Join(dir, "in", "osk 2.zip"), "x", "2")
	pack(t, filepath.Join(dir, "in", "merrin.zip"), "x", "3")
	count := func(args ...string) int {
		stdout, stderr, code := run(t, dir, append([]string{"inspect", "--as", "names"}, args...)...)
		require.Zero(t, code, stderr)
		return strings.Count(stdout, "\n")
	}
	assert.Equal(t, 3, count(`in\*.zip`))
	assert.Equal(t, 2, count(`IN\OSK*.zip`))
	assert.Equal(t, 1, count(`in/*[v1]*`))
	assert.Equal(t, 1, count(`in\osk ?.zip`))
	assert.Equal(t, 2, count(`*\osk*`))
	assert.Equal(t, 1, count(`in\MERRIN.zip`, `IN\merrin.ZIP`, `in/merrin.zip`), "one source")
	_, stderr, code := run(t, dir, "inspect", `in\*.7`)
	assert.Equal(t, 8, code)
	assert.Contains(t, stderr, "nothing matches")

	_, stderr, code = run(t, dir, "create", `IN\ALL.ZIP`, `in\*`, "--under", `2026\charts`, "--text", `docs\n.txt=note`)
	require.Zero(t, code, stderr)
	_, stderr, code = run(t, dir, "create", `IN\ALL.ZIP`, "in", "--under", `2026\charts`, "--put", `in\merrin.zip=docs\m.zip`, "--clash", "replace")
	require.Zero(t, code, stderr)
	stdout, _, _ := run(t, dir, "inspect", `in\all.zip`, "--as", "names")
	assert.NotContains(t, strings.ToLower(stdout), "all.zip", "it leaves itself out")
	assert.Contains(t, stdout, "docs/m.zip\n")
	assert.Contains(t, stdout, "2026/charts/in/merrin.zip\n")
	_, stderr, code = run(t, dir, "edit", `in\all.zip`, "--move", `docs\m.zip=docs\n.zip`)
	require.Zero(t, code, stderr)
	stdout, _, _ = run(t, dir, "inspect", `in\all.zip`, "--as", "names")
	assert.Contains(t, stdout, "docs/n.zip\n")
}

// Paths that only this system has, and very long ones.
func TestWindowsPaths(t *testing.T) {
	dir := t.TempDir()
	long := strings.Repeat("a long name of a folder/", 15) + "x.csv"
	pack(t, filepath.Join(dir, "in.zip"), long, "1", "y", "2")
	volume := filepath.VolumeName(dir)
	for i, form := range [][2]string{
		{`\\?\` + dir + `\in.zip`, `\\?\` + dir + `\out0`}, // a path that is taken to the letter
		{`\\.\` + dir + `\in.zip`, `\\.\` + dir + `\out1`}, // one of a device
		{dir[len(volume):] + `\in.zip`, dir[len(volume):] + `\out2`},
		{volume + "in.zip", volume + "out3"}, // below the folder that is current on that drive
		{"in.zip", `.\out4\..\out4`},
	} {
		_, stderr, code := run(t, dir, "extract", form[0], "--into", form[1], "--layout", "shared")
		require.Zero(t, code, "%s %s", form, stderr)
		assert.Equal(t, "1", tree(t, filepath.Join(dir, "out"+string(rune('0'+i))))[long], form)
	}
	// What is merged goes by other calls.
	put(t, filepath.Join(dir, "out4", filepath.FromSlash(long)), "old")
	_, stderr, code := run(t, dir, "extract", "in.zip", "--into", "out4", "--layout", "shared", "--clash", "replace")
	require.Zero(t, code, stderr)
	assert.Equal(t, "1", tree(t, filepath.Join(dir, "out4"))[long])
	require.NoError(t, os.Remove(filepath.Join(dir, "out4", filepath.FromSlash(long))))
	_, stderr, code = run(t, dir, "extract", "in.zip", "--into", "out4", "--layout", "shared")
	require.Zero(t, code, stderr)
	assert.Equal(t, "1", tree(t, filepath.Join(dir, "out4"))[long])
}
