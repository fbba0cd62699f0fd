package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kinds are the values of a field of the JSON lines of a kind.
func linesOf(t *testing.T, out, kind string) (lines []map[string]any) {
	t.Helper()
	for line := range strings.Lines(out) {
		var v map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &v), line)
		if v["kind"] == kind {
			lines = append(lines, v)
		}
	}
	return lines
}

// The month of the demo: the second night does nothing, and a third one only what is new.
func TestMonth(t *testing.T) {
	dir := tidewatch(t)
	_, errs, code := run(t, dir, "run", "month.yaml")
	require.Zero(t, code, errs)
	first := tree(t, filepath.Join(dir, "month"))
	require.Len(t, linesOf(t, tree(t, dir)["month.jsonl"], "unit"), 10)

	out, errs, code := run(t, dir, "run", "month.yaml", "--as", "json")
	require.Zero(t, code, errs)
	assert.Len(t, linesOf(t, tree(t, dir)["month.jsonl"], "unit"), 10, "nothing was done again")
	assert.Equal(t, first, tree(t, filepath.Join(dir, "month")))
	states := map[any]int{}
	for _, j := range linesOf(t, out, "job") {
		states[j["state"]]++
	}
	assert.Equal(t, map[any]int{"started": 9, "done": 9}, states)
	assert.NotContains(t, strings.Join(names(t, dir), " "), ".widecrate", "the lock is gone")

	_, errs, code = run(t, dir, "edit", "bundles/osk-bay.zip", "--remove", "*-01.zip")
	require.Zero(t, code, errs)
	_, errs, code = run(t, filepath.Dir(dir), "run", filepath.Join("tidewatch", "month.yaml"), "--report", "page.html")
	require.Zero(t, code, errs)
	assert.Len(t, linesOf(t, tree(t, dir)["month.jsonl"], "unit"), 11, "one bundle; what came of it is the same, and so is the archive")
	page := tree(t, filepath.Dir(dir))["page.html"]
	assert.Contains(t, page, "tables (station=osk-bay)")
	assert.NoFileExists(t, filepath.Join(dir, "page.html"), "what the command line names lies where it ran")
}

func names(t *testing.T, dir string) (names []string) {
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, c := range children {
		names = append(names, c.Name())
	}
	return names
}

func TestRunJobs(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "in", "a.zip"), "a.csv", "1", "a.txt", "2")
	pack(t, filepath.Join(dir, "in", "b.zip"), "b.csv", "3")
	put(t, filepath.Join(dir, "in", "broken.zip"), "PK\x03\x04 broken")
	file := func(text string) string {
		put(t, filepath.Join(dir, "job.yaml"), "widecrate: 1\n"+text)
		return "job.yaml"
	}
	fails := "- {name: bad, extract: {sources: in/broken.zip, into: out}}\n"
	for _, tt := range []struct {
		name, text string
		args       []string
		code       int
		states     string // of the jobs
		made       []string
		says       string
	}{
		{"all forms", "vars: {to: out}\njobs:\n- {name: x, repeat: {n: [a, b]}, extract: {sources: 'in/${n}.zip', into: '${to}', ext: [csv]}}\n- {name: y, follows: x, create: {archive: 'made-{today}.zip', sources: ['${to}'], text: ['note.txt=hm = yes']}}\n- {name: z, verify: {sources: in, archives: ['[ab].zip']}}\n",
			nil, 0, "done done done done", []string{"out/a/a.csv", "out/b/b.csv"}, ""},
		{"a failure", "jobs:\n" + fails + "- {name: after, follows: bad, extract: {sources: in/a.zip, into: out}}\n- {name: last, follows: [after], extract: {sources: in/a.zip, into: out}}\n- {name: other, extract: {sources: in/b.zip, into: out}}\n",
			nil, 7, "failed not-run not-run done", []string{"out/b/b.csv"}, "after: not run: it comes after bad, which failed"},
		{"even if one failed", "jobs:\n" + fails + "- {name: after, follows: bad, even-if: failed, extract: {sources: in/a.zip, into: out}}\n- {name: last, follows: after, verify: {sources: in/a.zip}}\n",
			nil, 7, "failed done done", []string{"out/a/a.csv", "out/a/a.txt"}, ""},
		{"enough of them", "jobs:\n- {name: most, needs: 66%, extract: {sources: in, into: out}}\n- {name: after, follows: most, verify: {sources: in/a.zip}}\n",
			nil, 0, "done done", []string{"out/a/a.csv", "out/a/a.txt", "out/b/b.csv"}, "most: 1 of 3 archives failed, and 66 % are enough"},
		{"not enough", "jobs:\n- {name: most, needs: 67%, extract: {sources: in, into: out}}\n- {name: after, follows: most, verify: {sources: in/a.zip}}\n",
			nil, 7, "failed not-run", []string{"out/a/a.csv", "out/a/a.txt", "out/b/b.csv"}, ""},
		{"halted", "halt: true\njobs:\n" + fails + "- {name: other, extract: {sources: in/b.zip, into: out}}\n", nil, 7, "failed not-run", nil, "not run: a job before it failed"},
		{"two kinds of failure", "jobs:\n" + fails + "- {name: gone, extract: {sources: in/gone.zip, into: out}}\n", nil, 1, "failed failed", nil, "in/gone.zip"},
		{"only one", "jobs:\n" + fails + "- {name: after, follows: bad, extract: {sources: in/b.zip, into: out}}\n", []string{"--only", "after"}, 0, "done", []string{"out/b/b.csv"}, ""},
		{"a variable", "jobs:\n- {name: x, extract: {sources: 'in/${what}.zip', into: out, ext: '${ext}'}}\n", []string{"--set", "what=a", "--set", "ext=txt"}, 0, "done", []string{"out/a/a.txt"}, ""},
		{"a dry run", "jobs:\n- {name: x, extract: {sources: in/a.zip, into: out}}\n- {name: y, follows: x, create: {archive: m.zip, sources: [out]}}\n- {name: z, convert: {sources: in/a.zip, to: tar}}\n", []string{"--dry-run"}, 0, "done not-run done", nil, "out would be there by then, made by x"},
		{"a dry run of what nobody makes", "jobs:\n- {name: x, extract: {sources: in/a.zip, into: out}}\n- {name: y, follows: x, verify: {sources: elsewhere.zip}}\n", []string{"--dry-run"}, 0, "done not-run", nil, "not known before x"},
		{"a mail", "jobs:\n" + fails + "- {name: after, follows: bad, verify: {sources: in/a.zip}}\n", []string{"--quiet"}, 7, "failed not-run", nil, "bad: failed: damaged (7); 1 failed, "},
		{"no mail", "jobs:\n- {name: x, extract: {sources: in/a.zip, into: out, entry: [a.csv, none]}}\n- {name: y, verify: {sources: [in/b.zip]}}\n", []string{"--quiet"}, 6, "failed done", []string{"out/a/a.csv"}, "job.yaml on "},
		{"looked at", "jobs:\n- {name: x, extract: {sources: in/a.zip, into: out}}\n", []string{"--validate"}, 0, "", nil, ""},
		{"pairs", "jobs:\n- {name: x, extract: {pairs: [[in/a.zip, out/one], [in/b.zip, out/two]], clash: skip}}\n", nil, 0, "done", []string{"out/one/a/a.csv", "out/two/b/b.csv"}, ""},
		{"a share", "shard: 1/2\njobs:\n- {name: x, extract: {sources: in, into: out, archives: ['?.zip']}}\n", []string{"--shard", "0/1"}, 0, "done", []string{"out/a/a.csv", "out/b/b.csv"}, ""},
		{"no share of what is made", "jobs:\n- {name: x, extract: {sources: in, into: out}}\n- {name: y, create: {archive: m.zip, sources: [out]}}\n", []string{"--shard", "0/2"}, 2, "", nil, "create has no shares"},
		{"no share of what is merged", "shard: 0/2\ndefaults: {extract: {layout: shared}}\njobs:\n- {name: x, extract: {sources: in, into: out}}\n", nil, 2, "", nil, "shard and layout shared do not go together"},
		{"an unset variable", "jobs:\n- {name: x, extract: {sources: 'in/${what}.zip'}}\n", []string{"--set", "what="}, 2, "", nil, "is a variable not set?"},
		{"a misspelt variable", "jobs:\n- {name: x, extract: {sources: 'in/${what}.zip'}}\n", []string{"--set", "waht=a", "--set", "what=a"}, 2, "", nil, "the nearest is what"},
		{"no such job", "jobs:\n" + fails, []string{"--only", "bed"}, 2, "", nil, "the nearest is bad"},
		{"mistakes", "jobs:\n" + fails + "- {name: m, extract: {sources: '-', into: '', cash: skip, fresh: true, layout: shared, max-size: x}}\n- {name: n, extract: {sources: x, after: gone, skip-done: true, password: p, ask-password: true}}\n- {name: o, convert: {sources: x, to: exe}}\n",
			nil, 2, "", nil, `line 4, column 43: into: it is empty`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
			out, errs, code := run(t, dir, append([]string{"run", file(tt.text), "--as", "json"}, tt.args...)...)
			require.Equal(t, tt.code, code, "%s\n%s", out, errs)
			var states []string
			for _, j := range linesOf(t, out, "job") {
				if j["state"] != "started" {
					states = append(states, strings.ReplaceAll(j["state"].(string), " ", "-"))
				}
			}
			assert.Equal(t, tt.states, strings.Join(states, " "))
			var made []string
			for _, path := range []string{"a/a.csv", "a/a.txt", "b/b.csv", "one/a/a.csv", "two/b/b.csv"} {
				if _, err := os.Stat(filepath.Join(dir, "out", path)); err == nil {
					made = append(made, "out/"+path)
				}
			}
			if tt.name != "pairs" && tt.name != "a share" {
				assert.Equal(t, tt.made, made)
			}
			assert.Subset(t, made, tt.made)
			assert.Contains(t, errs, tt.says)
			if tt.name == "mistakes" {
				assert.Len(t, linesOf(t, out, "mistake"), 9, errs)
				assert.Contains(t, errs, "     4  - {name: m, extract: {sources: '-', into: ''")
			}
		})
	}
	matches, err := filepath.Glob(filepath.Join(dir, "made-20*.zip"))
	require.NoError(t, err)
	assert.Len(t, matches, 1, "the date is in its name")
}

// Two runs of one file: the second waits, or leaves; a run that was killed is in nobody's way.
func TestBusy(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "suite-1.zip"), "a", "1")
	put(t, filepath.Join(dir, "job.yaml"), "widecrate: 1\njobs:\n- {name: x, extract: {sources: ., series: 'suite-{n}.zip', series-count: 2, wait: 1h, into: out}}\n")
	waiting := func(args ...string) (*exec.Cmd, *bufio.Reader) {
		cmd := exec.Command(program, append([]string{"run", "job.yaml"}, args...)...)
		cmd.Dir = dir
		errs, err := cmd.StdoutPipe()
		require.NoError(t, err)
		cmd.Stderr = cmd.Stdout
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		return cmd, bufio.NewReader(errs)
	}
	lock := filepath.Join(dir, ".widecrate-run-job.yaml")
	first, _ := waiting()
	require.Eventually(t, func() bool { text, _ := os.ReadFile(lock); return len(text) > 0 }, 10*time.Second, 10*time.Millisecond)
	_, errs, code := run(t, dir, "run", "job.yaml", "--if-busy", "leave")
	assert.Equal(t, 3, code)
	assert.Contains(t, errs, fmt.Sprintf("process %d on ", first.Process.Pid))
	_, _, code = run(t, dir, "run", "job.yaml", "--if-busy", "leave", "--shard", "0/2", "--validate")
	assert.Zero(t, code, "looking at the file is no run")

	second, said := waiting()
	line, err := said.ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, line, "waiting for another run of job.yaml")
	require.NoError(t, first.Process.Kill())
	first.Wait()
	pack(t, filepath.Join(dir, "suite-2.zip"), "b", "2")
	go func() { _, _ = said.WriteTo(io.Discard) }()
	require.NoError(t, second.Wait())
	assert.Equal(t, map[string]string{"suite/": "", "suite/a": "1", "suite/b": "2"}, tree(t, filepath.Join(dir, "out")))
	assert.NoFileExists(t, lock)
}

// The schema that ships is the one that the program prints.
func TestJobSchema(t *testing.T) {
	out, _, code := run(t, t.TempDir(), "run", "--schema")
	require.Zero(t, code)
	shipped, err := os.ReadFile("../docs/job.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(shipped), out, "docs/job.schema.json is made by: widecrate run --schema")
}

// An archive is made again exactly if something of it has changed.
func TestCreateSkipsWhatIsDone(t *testing.T) {
	write := func(dir, path, data string) { put(t, filepath.Join(dir, path), data) }
	for _, tt := range []struct {
		name   string
		change func(dir string)
		args   []string // instead of those before
		done   bool
	}{
		{"nothing", func(string) {}, nil, true},
		{"a file that is left out", func(dir string) { write(dir, "src/x.log", "new") }, nil, true},
		{"a file", func(dir string) { write(dir, "src/a.txt", "longer") }, nil, false},
		{"its time", func(dir string) {
			require.NoError(t, os.Chtimes(filepath.Join(dir, "src", "a.txt"), time.Unix(0, 0), time.Unix(1, 0)))
		}, nil, false},
		{"a new file", func(dir string) { write(dir, "src/c.txt", "") }, nil, false},
		{"a new folder", func(dir string) { require.NoError(t, os.Mkdir(filepath.Join(dir, "src", "d"), 0o777)) }, nil, false},
		{"one less", func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "src", "b", "b.txt"))) }, nil, false},
		{"the archive is gone", func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "m.zip"))) }, nil, false},
		{"the archive is another", func(dir string) { write(dir, "m.zip", "mine") }, nil, false},
		{"the method", func(string) {}, []string{"m.zip", "src", "--drop", "*.log", "--text", "n=1", "--clash", "replace", "--method", "store"}, false},
		{"the text", func(string) {}, []string{"m.zip", "src", "--drop", "*.log", "--text", "n=2", "--clash", "replace"}, false},
	} {
		dir := t.TempDir()
		write(dir, "src/a.txt", "1")
		write(dir, "src/b/b.txt", "2")
		write(dir, "src/x.log", "3")
		args := []string{"m.zip", "src", "--drop", "*.log", "--text", "n=1", "--clash", "replace"}
		create := func(args []string) map[string]any {
			out, errs, code := run(t, dir, append(append([]string{"create"}, args...), "--receipt", "r.jsonl", "--skip-done", "--sums", "sums", "--as", "json")...)
			require.Zero(t, code, errs)
			return linesOf(t, out, "archive")[0]
		}
		assert.Nil(t, create(args)["done"], tt.name)
		sums := tree(t, dir)["sums"]
		tt.change(dir)
		if tt.args != nil {
			args = tt.args
		}
		assert.Equal(t, tt.done, create(args)["done"] == true, tt.name)
		if tt.done {
			assert.Equal(t, sums, tree(t, dir)["sums"], "the list stays")
		}
		assert.Equal(t, true, create(args)["done"], tt.name)
	}

	// Those with numbers, and in parts, are known by the names that were asked for.
	dir := t.TempDir()
	write(dir, "src/a.txt", strings.Repeat("x", 5000))
	for _, args := range [][]string{{"n.zip", "src", "--clash", "number"}, {"{name}.zip", "src", "--each", "--clash", "number"}, {"p.zip", "src", "--method", "store", "--part-size", "1k"}} {
		for i, want := range []any{nil, true} {
			out, errs, code := run(t, dir, append(append([]string{"create"}, args...), "--receipt", "r.jsonl", "--skip-done", "--as", "json")...)
			require.Zero(t, code, errs)
			assert.Equal(t, want, linesOf(t, out, "archive")[0]["done"], "%v, run %d", args, i)
		}
	}
	_, errs, code := run(t, dir, "verify", "--against", "r.jsonl")
	require.Zero(t, code, errs)
	write(dir, "n.zip", "mine")
	_, errs, code = run(t, dir, "verify", "--against", "r.jsonl")
	assert.Equal(t, 7, code)
	assert.Contains(t, errs, "n.zip")
}
