package crossed

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	program "widecrate/cli"
)

// tester is a test, or one of its random cases.
type tester interface {
	rapid.TB
	Cleanup(func())
}

// cli runs the command line within the process. Names of its words stand for other things, see
// named; some of them stand in what is printed as well.
func cli(t require.TestingT, dir string, args ...string) (out, errs string, code int) {
	var stdout, stderr bytes.Buffer
	code = program.Main(named(t, dir, args), &stdout, &stderr)
	require.NoError(t, os.Chdir(home)) // a job file takes the process to its folder
	return cleaned(dir, stdout.String()), cleaned(dir, stderr.String()), code
}

// cleaned has the words of named in what is printed.
func cleaned(dir, printed string) string {
	return strings.NewReplacer(servers[0]+"/"+filepath.Base(dir), "SERVER", servers[1]+"/"+filepath.Base(dir), "PLAIN",
		strings.ReplaceAll(cmp.Or(dir, "DIR"), `\`, `\\`), "DIR", cmp.Or(dir, "DIR"), "DIR", `\\`, "/").Replace(printed)
}

// named replaces DIR in words by a folder, SERVER and PLAIN by its addresses, and ENTRIES and KEYS
// by files in it that have lines.
func named(t require.TestingT, dir string, args []string) []string {
	entries, passwords := filepath.Join(dir, "entries"), filepath.Join(dir, "keys")
	if dir != "" {
		require.NoError(t, os.WriteFile(entries, []byte("a.csv\nd/a.csv\n"), 0o666))
		require.NoError(t, os.WriteFile(passwords, []byte(strings.Join(keys, "\n")+"\n"), 0o666))
	}
	replace := strings.NewReplacer("DIR", dir, "SERVER", servers[0]+"/"+filepath.Base(dir), "PLAIN", servers[1]+"/"+filepath.Base(dir),
		"ENTRIES", entries, "KEYS", passwords)
	words := slices.Clone(args)
	for i := range words {
		words[i] = replace.Replace(words[i])
	}
	return words
}

// home is where the tests run.
var home, _ = os.Getwd()

// servers have all cases: one answers requests for ranges, the other does not.
var servers [2]string

// A result is what a call came to.
type result struct {
	out, in Tree
	lines   []map[string]any
	errs    string
	code    int
}

// extract unpacks a world that is in dir.
func extract(t tester, w *world, dir string, args []string) result {
	os.Stdin = w.input(t, dir)
	defer os.Stdin.Close()
	stdout, errs, code := cli(t, dir, w.extracting(t, dir, args)...)
	return resultOf(t, dir, stdout, errs, code)
}

// extracting is the command line for a world that is in dir.
func (w *world) extracting(t tester, dir string, args []string) []string {
	return slices.Concat([]string{"extract", "--as", "json"}, w.words(t, dir), args)
}

// resultOf is what lies in a folder after a call.
func resultOf(t tester, dir, stdout, errs string, code int) result {
	r := result{errs: errs, code: code}
	var err error
	r.out, err = Look(filepath.Join(dir, "out"))
	require.NoError(t, err)
	r.in, err = Look(filepath.Join(dir, "in"))
	require.NoError(t, err)
	r.lines = parse(t, stdout)
	for at := range r.out {
		require.NotContains(t, at, ".widecrate-", "something is left: %s", errs)
	}
	return r
}

// parse reads lines of JSON.
func parse(t require.TestingT, text string) (lines []map[string]any) {
	for line := range strings.Lines(text) {
		var v map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &v), line)
		delete(v, "seconds")
		maps.DeleteFunc(v, func(key string, _ any) bool { return strings.HasSuffix(key, "_bytes") }) // which have the folder in them
		lines = append(lines, v)
	}
	return lines
}

// linesOf are those of a file.
func linesOf(t require.TestingT, dir, name string) []map[string]any {
	text, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return parse(t, string(text))
}

// free reports whether a run may or may not have come to what is behind its first failure.
func free(args []string) bool {
	c := choose(args)
	return c.has("halt") && !c.has("nested") && c.of("layout", "own") == "own"
}

// agree makes sure that two results are the same.
func agree(t tester, a, b result) {
	assert.Equal(t, a.code, b.code, "%s---\n%s", a.errs, b.errs)
	assert.Empty(t, a.out.Differences(b.out), "%s---\n%s", a.errs, b.errs)
	if !t.Failed() {
		assert.Equal(t, a.lines, b.lines)
	}
}

// laws hold for any world and options. Each gets the world and makes it as often as it needs.
var laws = map[string]func(t tester, w *world, args []string){
	"any number of workers": func(t tester, w *world, args []string) {
		first := extract(t, w, w.make(t), append(args, "--workers", "1"))
		for _, workers := range []string{"2", "8"} {
			agree(t, first, extract(t, w, w.make(t), append(args, "--workers", workers)))
		}
	},
	"again": func(t tester, w *world, args []string) {
		dir := w.make(t)
		first := extract(t, w, dir, args)
		again := extract(t, w, dir, args)
		assert.Empty(t, first.out.Differences(again.out), "%s---\n%s", first.errs, again.errs)
		assert.Equal(t, first.code, again.code, "%s---\n%s", first.errs, again.errs)
	},
	"a dry run": func(t tester, w *world, args []string) {
		if slices.ContainsFunc(w.archives, func(a *Archive) bool { return a.Damage == Flipped || a.Damage == Cut }) {
			t.Skip("a dry run decodes nothing")
		}
		if w.way == onServer && slices.ContainsFunc(w.archives, func(a *Archive) bool { return strings.HasSuffix(a.Name, ".tar") }) {
			t.Skip("a run reads it as a whole, and hard links to what it has left out with it")
		}
		dir := w.make(t)
		before := extract(t, w, dir, append(args, "--dry-run"))
		assert.Empty(t, w.laid(t).Differences(before.out), "a dry run wrote something")
		run := extract(t, w, dir, args)
		if strings.Contains(run.errs, "no symbolic link can be made") {
			t.Skip("what a file system cannot hold is only known once it is tried")
		}
		for _, line := range append(slices.Clone(before.lines), run.lines...) {
			delete(line, "dry_run")
			if failure, is := line["failure"].(map[string]any); is {
				delete(failure, "where") // which of many entries is too much
				delete(line, "entries")  // and how many were seen before
			}
		}
		assert.Equal(t, run.code, before.code, "%s---\n%s", run.errs, before.errs)
		if !t.Failed() && run.code != 2 {
			assert.Equal(t, run.lines, before.lines)
		}
	},
	"done is done": func(t tester, w *world, args []string) {
		dir := w.make(t)
		args = append(args, "--receipt", "DIR/receipt", "--skip-done")
		first := extract(t, w, dir, args)
		again := extract(t, w, dir, args)
		assert.Empty(t, first.out.Differences(again.out), "%s---\n%s", first.errs, again.errs)
		if first.code != 6 { // of what was done before, nobody knows what matched
			assert.Equal(t, first.code == 0, again.code == 0, "%s---\n%s", first.errs, again.errs)
		}
		if clash := choose(args).of("clash", ""); first.code == 0 && clash != "replace" && clash != "newer" {
			_, errs, code := cli(t, dir, "verify", "--against", "DIR/receipt")
			assert.Zero(t, code, errs)
		}
	},
	"what is said is there": func(t tester, w *world, args []string) {
		dir := w.make(t)
		args = append(args, "--receipt", "DIR/receipt", "--sums", "DIR/sums")
		r := extract(t, w, dir, args)
		if clash := choose(args).of("clash", ""); r.code == 2 || clash == "replace" || clash == "newer" {
			t.Skip("one archive may take the place of what another brought")
		}
		sums, brought := map[string]string{}, map[string]bool{}
		for at, thing := range r.out {
			if !utf8.ValidString(at) {
				t.Skip("the names are damaged")
			}
			sum := sha256.Sum256([]byte(thing.Data))
			sums[at] = hex.EncodeToString(sum[:])
		}
		var root string
		for _, line := range linesOf(t, dir, "receipt") {
			switch line["kind"] {
			case "unit":
				in, _ := line["root"].(string)
				root = strings.TrimPrefix(filepath.ToSlash(in), filepath.ToSlash(filepath.Join(dir, "out")))
			case "file":
				at := path.Join(".", root, line["path"].(string))
				brought[at] = true
				if line["type"] == "file" {
					assert.Equal(t, sums[at], line["sha256"], "the receipt about %s", at)
				}
			}
		}
		for at, thing := range r.out {
			if there, is := w.there[at]; thing.Kind != Folder && (!is || there.Data != thing.Data) {
				assert.True(t, brought[at], "%s%s is not in the receipt: %s", at, thing, r.errs)
			}
		}
		list, err := os.ReadFile(filepath.Join(dir, "sums"))
		require.NoError(t, err)
		for line := range strings.Lines(string(list)) {
			sum, at, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
			if w.way != inPairs {
				assert.Equal(t, sums[at], sum, "the list about %s", at)
			}
		}
	},
	"verify agrees": func(t tester, w *world, args []string) {
		if w.way == inPairs {
			w.way = inList
		}
		var both []string
		for i := 0; i < len(args); i++ {
			name := strings.TrimPrefix(args[i], "--")
			_, chooses := choices[name]
			keep := chooses || slices.Contains([]string{"recursive", "archives", "nested", "nested-depth", "password-env", "password-file"}, name)
			if keep {
				both = append(both, args[i])
			}
			if drawn[name] != nil {
				if i++; keep {
					both = append(both, args[i])
				}
			}
		}
		w.there = Tree{}
		dir := w.make(t)
		unpacked := extract(t, w, dir, both)
		words := slices.DeleteFunc(w.words(t, dir), func(word string) bool { return word == "--into" || word == "DIR/out" })
		os.Stdin = w.input(t, dir)
		defer os.Stdin.Close()
		out, errs, _ := cli(t, dir, slices.Concat([]string{"verify", "--as", "json"}, words, both)...)
		others := map[string]bool{} // those of which extract says something else
		bad := func(lines []map[string]any) map[string]bool {
			all := map[string]bool{}
			for _, line := range lines {
				damaged, _ := line["damaged"].(float64)
				unsafe, _ := line["unsafe"].(float64)
				if name, of := line["archive"].(string); of && line["kind"] == "archive" {
					name, _, _ = strings.Cut(name, " › ") // what is wrong inside is wrong
					failure, failed := line["failure"].(map[string]any)
					here := failed && failure["code"] != 3.0 && failure["code"] != 10.0 // else for want of a folder of its own, or of links
					all[name] = all[name] || here || damaged+unsafe > 0
					others[name] = others[name] || failed && !here
				}
			}
			return all
		}
		verified := bad(parse(t, out))
		for name, is := range bad(unpacked.lines) {
			checked, there := verified[name]
			assert.True(t, there && checked == is || others[name], "%s: %t, %t\n%s---\n%s", name, is, checked, unpacked.errs, errs)
		}
	},
	"what goes is there": func(t tester, w *world, args []string) {
		plain := extract(t, w, w.make(t), args)
		for _, after := range [][]string{{"--after", "remove"}, {"--after", "move=DIR/done"}, {"--after", "move=DIR/in/done"}} {
			dir := w.make(t)
			before, err := Look(filepath.Join(dir, "in"))
			require.NoError(t, err)
			gone := extract(t, w, dir, append(slices.Clone(args), after...))
			if gone.code == 2 { // they do not go together
				assert.Empty(t, before.Differences(gone.in))
				continue
			}
			if w.way == onServer || w.way == onPlain { // which take no changes, and say so
				assert.Empty(t, before.Differences(gone.in))
				assert.Contains(t, []int{plain.code, 1, 10}, gone.code, gone.errs)
				continue
			}
			assert.Empty(t, plain.out.Differences(gone.out), gone.errs)
			assert.Equal(t, plain.code, gone.code, gone.errs)
			failed := map[string]bool{}
			for _, line := range gone.lines {
				if name, of := line["archive"].(string); of && (line["failure"] != nil || line["kind"] == "lost") {
					failed[strings.Split(strings.TrimPrefix(name, "DIR/in/"), " › ")[0]] = true
				}
			}
			kept, err := Look(filepath.Join(dir, "done"))
			require.NoError(t, err)
			inside, err := Look(filepath.Join(dir, "in/done"))
			require.NoError(t, err)
			moved := map[string]bool{}
			for _, tree := range []Tree{kept, inside} {
				for _, thing := range tree {
					moved[thing.Data] = true
				}
			}
			for at, thing := range before {
				if _, stays := gone.in[at]; stays || thing.Kind == Folder {
					continue
				}
				assert.False(t, failed[at], "%s is gone, and failed: %s", at, gone.errs)
				if after[1] != "remove" {
					assert.True(t, moved[thing.Data], "%s is gone, and nowhere", at)
				}
			}
		}
	},
	"taken back": func(t tester, w *world, args []string) {
		dir := w.make(t)
		kept := choose(args).has("fresh") || len(args)%3 > 0
		args = append(args, "--receipt", "DIR/receipt")
		if kept {
			args = append(args, "--replaced", "DIR/replaced")
		}
		if w.way != onServer && len(args)%2 == 0 {
			args = append(args, "--after", "move=DIR/done")
		}
		in, err := Look(filepath.Join(dir, "in"))
		require.NoError(t, err)
		run := extract(t, w, dir, args)
		if run.code == 2 {
			return
		}
		if w.reads() { // what came through a pipe may be all that there is
			_, _, code := cli(t, dir, "undo", "DIR/receipt")
			assert.Contains(t, []int{0, 3}, code)
			return
		}
		_, _, code := cli(t, dir, "undo", "DIR/receipt", "--dry-run")
		assert.Zero(t, code)
		if out, err := Look(filepath.Join(dir, "out")); assert.NoError(t, err) {
			assert.Empty(t, run.out.Differences(out), "a dry run did something")
		}
		_, errs, code := cli(t, dir, "undo", "DIR/receipt")
		assert.Zero(t, code, errs)
		left, err := Look(filepath.Join(dir, "out"))
		require.NoError(t, err)
		before := w.laid(t)
		for _, line := range run.lines {
			if at, is := line["path"].(string); is && line["action"] == "replaced" && !kept {
				at = strings.TrimPrefix(at, "DIR/out/")
				delete(before, at)
				assert.NotContains(t, left, at)
			}
		}
		assert.Empty(t, before.Differences(left), "%s---\n%s", run.errs, errs)
		now, err := Look(filepath.Join(dir, "in"))
		require.NoError(t, err)
		assert.Empty(t, in.Differences(now), "%s---\n%s", run.errs, errs)
	},
	"shares are the whole": func(t tester, w *world, args []string) {
		if slices.Contains([]string{"shared", "auto"}, choose(args).of("layout", "")) || choose(args).has("halt") {
			t.Skip("a share would depend on the others")
		}
		whole := extract(t, w, w.make(t), args)
		dir := w.make(t)
		var last result
		for i := range 3 {
			last = extract(t, w, dir, append(slices.Clone(args), "--shard", fmt.Sprintf("%d/3", i)))
			if last.code == 2 {
				return
			}
		}
		assert.Empty(t, whole.out.Differences(last.out), "%s---\n%s", whole.errs, last.errs)
	},
	"a job file": func(t tester, w *world, args []string) {
		if w.reads() {
			t.Skip("a job has no standard input")
		}
		plain := extract(t, w, w.make(t), args)
		dir := w.make(t)
		job := "widecrate: 1\njobs:\n- name: one\n  extract:\n    sources:\n"
		words := named(t, dir, append(w.words(t, dir), args...))
		for len(words) > 0 && !strings.HasPrefix(words[0], "--") {
			job += fmt.Sprintf("    - %q\n", words[0])
			words = words[1:]
		}
		job = strings.TrimSuffix(job, "    sources:\n")
		for i := 0; i < len(words); i++ {
			name, value := strings.TrimPrefix(words[i], "--"), "true"
			if values, known := drawn[name]; values != nil || !known {
				i++
				value = words[i]
			}
			if _, number := map[string]bool{"peel": true, "nested-depth": true, "max-ratio": true, "max-entries": true}[name]; !number && value != "true" {
				value = fmt.Sprintf("%q", value)
			}
			job += "    " + name + ": " + value + "\n"
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "job.yaml"), []byte(job), 0o666))
		_, errs, code := cli(t, dir, "run", "DIR/job.yaml")
		assert.Equal(t, plain.code, code, "%s\n%s---\n%s", job, plain.errs, errs)
		out, err := Look(filepath.Join(dir, "out"))
		require.NoError(t, err)
		assert.Empty(t, plain.out.Differences(out), errs)
	},
}

// laid is the destination before anything is done.
func (w *world) laid(t tester) Tree {
	tree, err := Look(filepath.Join(w.make(t), "out"))
	require.NoError(t, err)
	return tree
}

func TestLaws(t *testing.T) {
	for name, law := range laws {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				w := drawWorld(t)
				args := drawOptions(t)
				if free(args) {
					t.Skip("what is behind the first failure may be there, or not")
				}
				t.Logf("extract in %s%s", strings.Join(args, " "), w)
				law(t, w, args)
			})
		})
	}
}
