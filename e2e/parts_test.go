package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"widecrate/demo"
)

// Pieces that the system's own command has cut, in each of its ways to name
// them, are joined, and ours are the whole when they are put one after the
// other.
func TestCutBySystem(t *testing.T) {
	cutter, err := exec.LookPath("split")
	if err != nil {
		t.Skip("the system has no command that cuts files")
	}
	dir := tidewatch(t)
	bundle := filepath.Join(dir, "bundles", "osk-bay.zip")
	want, err := os.ReadFile(bundle)
	require.NoError(t, err)
	for name, args := range map[string][]string{
		"letters":         {"-b", "20000"},
		"many letters":    {"-b", "100"}, // beyond yz
		"digits":          {"-b", "20000", "-d"},
		"many digits":     {"-b", "300", "-d"}, // beyond 89
		"wide digits":     {"-b", "1000", "-d", "-a", "4"},
		"pieces of equal": {"-n", "7"},
	} {
		t.Run(name, func(t *testing.T) {
			cut := filepath.Join(t.TempDir(), "cut")
			require.NoError(t, os.Mkdir(cut, 0o777))
			out, err := exec.Command(cutter, append(args, bundle, filepath.Join(cut, "osk-bay.zip."))...).CombinedOutput()
			require.NoError(t, err, string(out))
			joined := filepath.Join(t.TempDir(), "joined.zip")
			first := "osk-bay.zip." + map[bool]string{true: "00", false: "aa"}[strings.Contains(name, "digits")]
			if name == "wide digits" {
				first += "00"
			}
			_, stderr, code := run(t, dir, "parts", "join", filepath.Join(cut, first), "--into", joined)
			if name == "pieces of equal" && code == 4 { // the last of them takes what is left over
				assert.Contains(t, stderr, "the last part")
				return
			}
			require.Equal(t, 0, code, stderr)
			got, err := os.ReadFile(joined)
			require.NoError(t, err)
			assert.True(t, string(want) == string(got), "byte for byte")
			stdout, _, code := run(t, dir, "inspect", cut, "--as", "names")
			assert.Equal(t, 0, code)
			assert.Contains(t, stdout, "may/osk-bay-2026-05-12.zip")
		})
	}
	stdout, stderr, code := run(t, dir, "parts", "split", bundle, "--part-size", "1000", "--into", "cut", "--as", "names")
	require.Equal(t, 0, code, stderr)
	var whole strings.Builder
	paths := strings.Fields(stdout)
	for _, path := range paths[:len(paths)-1] {
		part, err := os.ReadFile(path)
		require.NoError(t, err)
		whole.Write(part)
	}
	assert.True(t, string(want) == whole.String(), "byte for byte")
}

// Sets are sources like any archive.
func TestSetsAsSources(t *testing.T) {
	dir := tidewatch(t)
	_, stderr, code := run(t, dir, "extract", "survey", "--into", "out")
	assert.Equal(t, 4, code)
	assert.Contains(t, stderr, "1 is missing: "+filepath.Base(demo.Missing))
	assert.Equal(t, 16, len(tree(t, filepath.Join(dir, "out")))-2, "harbour and grids, of seven files each, with their folders")

	// Any part stands for its set, once; parts may lie elsewhere.
	stdout, stderr, code := run(t, dir, "inspect", "survey/harbour.zip", "survey/harbour.z02", "survey/harbour.z01", "--as", "names")
	assert.Equal(t, 0, code, stderr)
	assert.Len(t, strings.Fields(stdout), 7)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "late"), 0o777))
	require.NoError(t, os.Rename(filepath.Join(dir, "survey/harbour.z03"), filepath.Join(dir, "late/harbour.z03")))
	_, stderr, code = run(t, dir, "verify", "survey/harbour.zip")
	assert.Equal(t, 4, code)
	assert.Contains(t, stderr, "of 4 parts, 1 is missing: harbour.z03")
	_, stderr, code = run(t, dir, "verify", "survey/harbour.zip", "--parts-in", "late")
	assert.Equal(t, 0, code, stderr)

	// What is still arriving is waited for.
	time.AfterFunc(300*time.Millisecond, func() {
		assert.NoError(t, os.Rename(filepath.Join(dir, "late/harbour.z03"), filepath.Join(dir, "survey/harbour.z03")))
	})
	_, stderr, code = run(t, dir, "compare", "survey/harbour.z01", "survey/grids.tar.gz.003")
	assert.Equal(t, 4, code, stderr)
	_, stderr, code = run(t, dir, "extract", "survey/harbour.zip", "--into", "waited", "--wait", "1m", "--after", "move=done")
	assert.Equal(t, 0, code, stderr)
	assert.Len(t, tree(t, filepath.Join(dir, "done")), 4, "all parts are put away")
	assert.NoFileExists(t, filepath.Join(dir, "survey/harbour.z01"))
	_, stderr, code = run(t, dir, "extract", "survey/grids.tar.gz.004", "--into", "waited", "--after", "remove")
	assert.Equal(t, 0, code, stderr)
	assert.NoFileExists(t, filepath.Join(dir, "survey/grids.tar.gz.001"))

	stdout, _, code = run(t, dir, "parts", "scan", "survey", "--as", "json")
	assert.Equal(t, 4, code)
	var line struct {
		Name, Type string
		Missing    []string
		Complete   bool
		Expected   int
	}
	require.NoError(t, json.Unmarshal([]byte(strings.TrimSpace(stdout)), &line), stdout)
	assert.Equal(t, "currents.tar.gz numbered [currents.tar.gz.002] 3 false", fmt.Sprint(line.Name, " ", line.Type, " ", line.Missing, " ", line.Expected, " ", line.Complete))
}

// A plain tar has no sums of its own: the list beside its parts is what says
// that one of them changed, to every command that reads the data.
func TestSumsBesideParts(t *testing.T) {
	dir := tidewatch(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "cut"), 0o777))
	_, stderr, code := run(t, dir, "create", "cut/all.tar", "readings", "--part-size", "100k")
	require.Equal(t, 0, code, stderr)
	second, list := filepath.Join(dir, "cut/all.tar.002"), filepath.Join(dir, "cut/all.tar.sha256")
	whole, err := os.ReadFile(list)
	require.NoError(t, err)
	_, whole, _ = bytes.Cut(whole, []byte("# put together: "))
	whole, _, _ = bytes.Cut(whole, []byte("\n"))
	for _, lists := range []string{"of parts", "of the whole"} {
		if lists == "of the whole" {
			text, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(string(whole) + "\r\n")
			require.NoError(t, err)
			put(t, list, text) // as some shells write it
		}
		for _, changed := range []bool{false, true} {
			for i, args := range [][]string{
				{"extract", "cut", "--into"}, {"convert", "cut", "--to", "zip", "--into"}, {"verify", "cut"},
				{"compare", "cut/all.tar.001", "cut/all.tar.001"}, {"parts", "scan", "cut", "--check-sums", "beside"},
			} {
				if args[len(args)-1] == "--into" {
					args = append(args, t.TempDir())
				}
				stdout, stderr, code := run(t, dir, args...)
				assert.Equal(t, map[bool]int{false: 0, true: 7}[changed], code, "%d %s: %s", i, lists, stderr)
				if changed {
					assert.Contains(t, stdout+stderr, "where the list says", "%d %s", i, lists)
				}
			}
			flip(t, second, 51200+2000)
		}
	}
}

func flip(t *testing.T, path string, at int) {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	b[at] ^= 0x10
	put(t, path, string(b))
}

// An archive is written in parts in one pass, and read as one.
func TestCreateInParts(t *testing.T) {
	dir := tidewatch(t)
	for name, args := range map[string][]string{
		"month.zip":     {"--part-style", "zip", "--part-size", "64k"},
		"month.tar.zst": {"--part-size", "50k"},
		"plain.zip":     {"--part-size", "10k"},
	} {
		_, stderr, code := run(t, dir, append([]string{"create", name, "bundles"}, args...)...)
		require.Equal(t, 0, code, stderr)
		source := name + ".001"
		if name == "month.zip" {
			source = name
		}
		_, stderr, code = run(t, dir, "compare", source, "bundles", "--peel-a", "1")
		assert.Equal(t, 0, code, "%s: %s", name, stderr)
		_, stderr, code = run(t, dir, append([]string{"create", name, "bundles"}, args...)...)
		assert.Equal(t, 3, code, stderr)
	}
	for _, args := range [][]string{{"create", "x.tar", "bundles", "--part-size", "64k", "--part-style", "zip"}, {"create", "x.zip", "bundles", "--part-size", "1k", "--part-style", "zip"},
		{"create", "x.zip", "bundles", "--part-style", "zip"}, {"parts", "split", "bundles/osk-bay.zip"}, {"parts", "join"}} {
		_, _, code := run(t, dir, args...)
		assert.Equal(t, 2, code, args)
	}
	found, err := filepath.Glob(filepath.Join(dir, "x.*"))
	require.NoError(t, err)
	assert.Empty(t, found)
}

// A series is one unit, to which the rule about clashes applies as a whole.
func TestSeries(t *testing.T) {
	dir := tidewatch(t)
	series := []string{"extract", "instruments", "--series", "suite-{n}.tar"}
	stdout, stderr, code := run(t, dir, append(series, "--into", "out", "--as", "json")...)
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, `"action":"same","summed":false,"member":"suite-12.tar"`)
	assert.FileExists(t, filepath.Join(dir, "out/suite-docs/manual.txt"))
	assert.Len(t, tree(t, filepath.Join(dir, "out/suite")), 25+2)

	require.NoError(t, os.Remove(filepath.Join(dir, "instruments/suite-7.tar")))
	_, stderr, code = run(t, dir, append(series, "--into", "gaps", "-q")...)
	assert.Equal(t, 4, code)
	assert.Contains(t, stderr, "missing: suite-7.tar")
	assert.NoDirExists(t, filepath.Join(dir, "gaps/suite"))

	pack(t, filepath.Join(dir, "other.zip"), "licence.txt", "another licence")
	require.NoError(t, os.Rename(filepath.Join(dir, "other.zip"), filepath.Join(dir, "instruments/suite-7.tar")))
	_, stderr, code = run(t, dir, append(series, "--into", "clash", "-q")...)
	assert.Equal(t, 3, code)
	assert.Contains(t, stderr, `entry "suite-1.tar › licence.txt" and entry "suite-7.tar › licence.txt" both go to`)
	assert.NoDirExists(t, filepath.Join(dir, "clash/suite"), "none of it is there")
	_, stderr, code = run(t, dir, append(series, "--into", "clash", "--clash", "replace", "-q")...)
	assert.Equal(t, 0, code, stderr)
	licence, err := os.ReadFile(filepath.Join(dir, "clash/suite/licence.txt"))
	require.NoError(t, err)
	assert.NotEqual(t, "another licence", string(licence), "the last of them has the first text again")
}

// Several sets are joined, and several files cut, each whole or not at all.
func TestManySets(t *testing.T) {
	dir := tidewatch(t)
	_, stderr, code := run(t, dir, "parts", "join", "survey", "--into", "whole", "--dry-run")
	assert.Equal(t, 4, code, stderr)
	assert.NoDirExists(t, filepath.Join(dir, "whole"))
	stdout, stderr, code := run(t, dir, "parts", "join", "survey", "survey/harbour.z01", "--into", "whole", "--as", "names")
	assert.Equal(t, 4, code, stderr)
	assert.Equal(t, []string{filepath.Join(dir, "whole/grids.tar.gz"), filepath.Join(dir, "whole/harbour.zip")}, strings.Fields(stdout))
	_, stderr, code = run(t, dir, "verify", "whole")
	assert.Equal(t, 0, code, stderr)

	put(t, filepath.Join(dir, "list"), "whole/harbour.zip\nnone\n")
	split := []string{"parts", "split", "whole/grids.tar.gz", "whole/../whole/grids.tar.gz", "--source-list", "list", "--part-size", "50k", "--into", "cut"}
	_, _, code = run(t, dir, append(split, "--dry-run")...)
	assert.Equal(t, 8, code)
	assert.NoDirExists(t, filepath.Join(dir, "cut"))
	_, stderr, code = run(t, dir, append(split, "--halt", "--workers", "1")...)
	assert.Equal(t, 8, code, stderr)
	before := tree(t, filepath.Join(dir, "cut"))
	assert.Len(t, before, 5+1+5+1)
	_, _, code = run(t, dir, append(split, "--halt")...)
	assert.Equal(t, 3, code)
	assert.Equal(t, before, tree(t, filepath.Join(dir, "cut")))
	_, stderr, code = run(t, dir, "parts", "join", "cut", "--into", "again")
	assert.Equal(t, 0, code, stderr)
	assert.Equal(t, tree(t, filepath.Join(dir, "whole")), tree(t, filepath.Join(dir, "again")))

	put(t, filepath.Join(dir, "copy", "grids.tar.gz"), "another")
	for want, args := range map[int][]string{3: {"split", "whole/grids.tar.gz", "copy/grids.tar.gz", "--part-size", "3", "--into", "x"}, 2: {"join", "--into", "x"}} {
		_, stderr, code = run(t, dir, append([]string{"parts"}, args...)...)
		assert.Equal(t, want, code, stderr)
		assert.NoDirExists(t, filepath.Join(dir, "x"))
	}
}
