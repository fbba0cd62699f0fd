package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/demo"
	"widecrate/demo/standin"
)

// nights runs the same command again and again, and says how many archives it unpacked
// and how many were done before.
func nights(t *testing.T, dir string, args ...string) (unpacked, before, code int) {
	t.Helper()
	stdout, _, code := run(t, dir, append([]string{"extract", "--as", "json", "--receipt", "r.jsonl", "--skip-done"}, args...)...)
	for line := range strings.Lines(stdout) {
		switch {
		case !strings.HasPrefix(line, `{"kind":"archive"`) || strings.Contains(line, `"failure"`) || strings.Contains(line, " › "):
		case strings.Contains(line, `"skipped":"done"`):
			before++
		default:
			unpacked++
		}
	}
	return unpacked, before, code
}

// Night after night only what is new is unpacked, and what is missing, in every layout.
// What a row of a list says for itself counts for it alone, and for whether it is done.
func TestPairsOfTheirOwn(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "a.zip"), "x.csv", "1", "y.log", "2", "z.json", "3")
	run1 := []string{"extract", "--pairs", "pairs.csv", "--receipt", "r.jsonl", "--skip-done", "--ext", "json"}
	for _, c := range []struct {
		rows, says string
		code       int
		left       map[string]string
	}{
		{"a.zip,one,\"csv,log\",,,\na.zip,one,log,y.log,two,\na.zip,three,,,,\n", "3 archives unpacked", 0,
			map[string]string{"one/a/x.csv": "1", "one/a/y.log": "2", "one/two/y.log": "2", "three/a/z.json": "3"}},
		{"a.zip,one,,none.log,two,\n", "no entry has the path \"none.log\"", 6, nil},
		{"a.zip,one,\"csv,log\",,,\na.zip,three,,,,\n", "2 done before", 0, nil},
		{"a.zip,one,log,,,\n", "1 archive unpacked", 0, nil},
		{"a.zip,one,,,{none},\n", "an unknown placeholder {none}", 2, nil},
		{"a.zip,one,,,,NONE\n", "no variable NONE", 2, nil},
		{"a.zip,one,x\n", "where source and into are expected", 2, nil},
	} {
		put(t, filepath.Join(dir, "pairs.csv"), "source,into,ext,entry,own-name,password-env\n"+c.rows)
		stdout, stderr, code := run(t, dir, run1...)
		assert.Equal(t, c.code, code, "%s: %s", c.rows, stderr)
		assert.Contains(t, stdout+stderr, c.says, c.rows)
		for at, text := range c.left {
			data, err := os.ReadFile(filepath.Join(dir, at))
			require.NoError(t, err)
			assert.Equal(t, text, string(data))
		}
	}
}

func TestOnlyWhatIsNew(t *testing.T) {
	for name, args := range map[string][]string{
		"own":    {"readings", "--into", "landing", "--clash", "replace"},
		"shared": {"readings", "--into", "landing", "--layout", "shared", "--clash", "replace", "--rename", "{archive}-{name}"},
		"fresh":  {"readings", "--into", "landing", "--fresh"},
		"nested": {"bundles", "readings", "--into", "landing", "--nested", "--clash", "replace"},
		"set":    {"readings", "survey/grids.tar.gz.002", "--into", "landing", "--clash", "replace"},
		"series": {"readings", "instruments", "--series", "suite-{n}.tar", "--into", "landing", "--clash", "replace"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := tidewatch(t)
			require.NoError(t, os.Remove(filepath.Join(dir, demo.Damaged)))
			all, before, code := nights(t, dir, args...)
			require.Zero(t, code)
			require.Zero(t, before)
			again, before, code := nights(t, dir, args...)
			require.Zero(t, code)
			assert.Zero(t, again)
			assert.Equal(t, all, before)

			pack(t, filepath.Join(dir, "readings", "new.zip"), "levels.csv", "new")
			pack(t, filepath.Join(dir, "readings", "osk-bay-2026-05-01.zip"), "levels.csv", "changed")
			var delivered string
			for path := range tree(t, filepath.Join(dir, "landing")) {
				if strings.Contains(path, "pell-point-2026-05-02") && strings.HasSuffix(path, "levels.csv") && !strings.Contains(path, "may/") {
					delivered = path
				}
			}
			require.NotEmpty(t, delivered)
			put(t, filepath.Join(dir, "landing", delivered), "altered")
			_, stderr, code := run(t, dir, "verify", "--against", "r.jsonl")
			assert.Equal(t, 7, code)
			assert.Contains(t, filepath.ToSlash(stderr), delivered)
			again, before, code = nights(t, dir, args...)
			require.Zero(t, code)
			if name == "shared" { // and those after them, which have the last word
				assert.Equal(t, all+1, again+before)
			} else {
				assert.Equal(t, []int{3, all - 2}, []int{again, before})
			}
			_, stderr, code = run(t, dir, "verify", "--against", "r.jsonl")
			assert.Zero(t, code, stderr)
			again, _, _ = nights(t, dir, append(args, "--drop", "*.log")...)
			assert.Equal(t, all+1, again)
		})
	}
}

// What was delivered is moved away, though it was delivered by an earlier run; what
// cannot be told apart is done again; and standard input always is.
func TestDoneAndAfter(t *testing.T) {
	dir := tidewatch(t)
	unpacked, _, code := nights(t, dir, "corrections", "--into", "landing")
	require.Zero(t, code)
	require.Equal(t, 2, unpacked)
	_, before, code := nights(t, dir, "corrections", "--into", "landing", "--after", "move=away")
	require.Zero(t, code)
	assert.Equal(t, 2, before)
	assert.Len(t, tree(t, filepath.Join(dir, "away")), 2)
	assert.Empty(t, tree(t, filepath.Join(dir, "corrections")))

	for _, server := range []*standin.Server{{Tag: `"a"`}, {}, {NoTimes: true}, {NoRanges: true}} {
		server.Folder = filepath.Join(dir, "bundles")
		address := serve(t, server) + "osk-bay.zip"
		for night := range 2 {
			_, before, code := nights(t, dir, address, "--into", "fetched")
			require.Zero(t, code)
			assert.Equal(t, night == 1 && (server.Tag != "" || !server.NoTimes), before == 1, "night %d", night)
		}
	}
}

// The options that keep what was done say what is wrong about them, and a receipt that
// cannot be written keeps the sources.
func TestRecordsThatFail(t *testing.T) {
	dir := tidewatch(t)
	for name, c := range map[string]struct {
		args string
		code int
		want string
	}{
		"nothing says what is done": {"extract corrections --into o --skip-done", 2, "needs a --receipt"},
		"a list that is none":       {"extract corrections --into o --skip-done --done-in tidewatch.txt", 7, "it is no receipt"},
		"no such receipt":           {"verify --against none.jsonl", 8, "none.jsonl: "},
		"both":                      {"verify readings --against none.jsonl", 2, "takes the place of archives"},
		"to standard output":        {"extract corrections --into - --receipt r", 2, "do not go together"},
		"no folder for it":          {"extract corrections --into o --receipt tidewatch.txt/r", 10, "tidewatch.txt/r"},
		"no folder for the sums":    {"extract corrections --into o --sums tidewatch.txt/s", 10, "tidewatch.txt"},
		"nothing settled":           {"extract corrections --into p --settled 90m", 0, "left alone"},
	} {
		t.Run(name, func(t *testing.T) {
			stdout, stderr, code := run(t, dir, strings.Fields(c.args)...)
			assert.Equal(t, c.code, code, stderr)
			assert.Contains(t, stdout+stderr, c.want)
		})
	}
	if _, err := os.Stat("/dev/full"); err == nil {
		_, stderr, code := run(t, dir, "extract", "bundles", "--into", "q", "--receipt", "/dev/full", "--after", "remove")
		assert.Equal(t, 3, code, stderr) // a device is no receipt
		assert.Len(t, tree(t, filepath.Join(dir, "bundles")), 5)
	}
	when := time.Now().Add(-2 * time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "corrections", "osk bay [v1].zip"), when, when))
	_, stderr, code := run(t, dir, "extract", "corrections", "--into", "p", "--settled", "90m")
	assert.Zero(t, code)
	assert.Contains(t, stderr, "osk bay [v2].zip")
	assert.Contains(t, tree(t, filepath.Join(dir, "p")), "osk bay [v1]/")
}

// The lists of sums of extract, verify, create and convert say the same of the same
// files, and receipts can be compared with all of it.
func TestSumsAndReceiptsAgree(t *testing.T) {
	dir := tidewatch(t)
	all := func(lines ...string) {
		for _, line := range lines {
			_, stderr, code := run(t, dir, strings.Fields(line)...)
			require.Zero(t, code, "%s: %s", line, stderr)
		}
	}
	all("extract bundles --into out --nested --receipt out.jsonl --sums out.sums",
		"create x.zip out --top drop --receipt made.jsonl --sums zip.sums --part-size 100k",
		"verify x.zip.001 --sums verify.sums", "convert x.zip.001 --to tar.gz --into . --entry-sums tar.sums --sums archives.sums", "verify x.tar.gz --sums gz.sums",
		"compare out.jsonl out", "compare out x.zip.001", "compare made.jsonl x.tar.gz", "compare made.jsonl out.jsonl", "verify --against out.jsonl")
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(data)
	}
	want := read("out.sums")
	assert.Equal(t, 288, strings.Count(want, "\n"))
	for _, name := range []string{"zip.sums", "verify.sums", "tar.sums", "gz.sums"} {
		assert.Equal(t, want, read(name), name)
	}
	assert.Contains(t, read("made.jsonl"), fmt.Sprintf(`"source":%q`, filepath.Join(dir, "out", "osk-bay", "may", "osk-bay-2026-05-01", "levels.csv")))
	put(t, filepath.Join(dir, "out", "osk-bay", "may", "osk-bay-2026-05-01", "levels.csv"), "altered")
	stdout, _, code := run(t, dir, "compare", "out.jsonl", "out")
	assert.Equal(t, 1, code)
	assert.Contains(t, stdout, "osk-bay-2026-05-01/levels.csv")
}

// In a folder that archives share, one that is done again takes those after it with
// it: the later one has the last word, as on the first night.
func TestDoneInSharedFolders(t *testing.T) {
	dir := tidewatch(t)
	args := []string{"corrections", "--into", "landing", "--layout", "shared", "--clash", "replace"}
	_, _, code := nights(t, dir, args...)
	require.Zero(t, code)
	want := tree(t, filepath.Join(dir, "landing"))
	unpacked, before, _ := nights(t, dir, args...)
	assert.Equal(t, []int{0, 2}, []int{unpacked, before})
	now := time.Now()
	require.NoError(t, os.Chtimes(filepath.Join(dir, "corrections", "osk bay [v1].zip"), now, now))
	unpacked, before, _ = nights(t, dir, args...)
	assert.Equal(t, []int{2, 0}, []int{unpacked, before})
	assert.Equal(t, want, tree(t, filepath.Join(dir, "landing")))
	_, _, code = nights(t, dir, append(args, "--rename", "level-{n}{ext}")...)
	assert.Equal(t, 2, code)

	// Of the same length and time, and yet another content: it is not removed then.
	info, err := os.Stat(filepath.Join(dir, "landing", "levels.csv"))
	require.NoError(t, err)
	put(t, filepath.Join(dir, "landing", "levels.csv"), strings.Repeat("x", int(info.Size())))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "landing", "levels.csv"), info.ModTime(), info.ModTime()))
	unpacked, _, code = nights(t, dir, append(args, "--after", "remove")...)
	require.Zero(t, code)
	assert.Equal(t, 2, unpacked)
	assert.Equal(t, want, tree(t, filepath.Join(dir, "landing")))
	left := tree(t, filepath.Join(dir, "corrections"))
	assert.Len(t, left, 1, "what the later one has replaced would be nowhere")
	assert.Contains(t, left, "osk bay [v1].zip")

	for _, line := range []string{"create a.zip readings --receipt both.jsonl", "create b.zip readings --receipt both.jsonl"} {
		_, _, code := run(t, dir, strings.Fields(line)...)
		require.Zero(t, code)
	}
	_, stderr, code := run(t, dir, "compare", "both.jsonl", "readings")
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "of both")
}
