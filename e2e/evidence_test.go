package e2e

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format"
	"widecrate/core/systemtest"
)

// A night is a story of files and commands: "in/a.zip: x=1 l->x h=>x d/" is an archive with a
// file, two kinds of link and a folder, and "in/a: 1" a file, "a -> b" a link, "3 extract in" a command with its exit code, and after that
// "a.zip" is there, "!a.zip" is not, "a = 1" has that content, "? text" was printed by
// the last command, and "!? text" was not. A ␣ is a space that parts nothing.
type night []string

func (n night) play(t *testing.T) {
	dir := t.TempDir()
	printed := ""
	for _, step := range n {
		at := func(name string) string { return filepath.Join(dir, filepath.FromSlash(strings.TrimSpace(name))) }
		code, args, _ := strings.Cut(step, " ")
		name, content, isFile := strings.Cut(step, ": ")
		_, isArchive := format.ByName(filepath.Base(name))
		link, target, isLink := strings.Cut(step, " -> ")
		path, text, isContent := strings.Cut(step, " = ")
		switch {
		case strings.Trim(code, "0123456789") == "" && args != "":
			out, errs, got := run(t, dir, spaced(strings.Fields(args))...)
			printed = out + errs
			require.Equal(t, code, strconv.Itoa(got), "%s: %s", step, printed)
		case strings.HasPrefix(step, "? "):
			assert.Contains(t, printed, step[2:], step)
		case strings.HasPrefix(step, "!? "):
			assert.NotContains(t, printed, step[3:], step)
		case isLink:
			_ = os.Remove(at(link))
			if err := os.Symlink(target, at(link)); err != nil {
				t.Skip("no links here")
			}
		case isContent:
			data, err := os.ReadFile(at(path))
			assert.NoError(t, err, step)
			assert.Equal(t, text, string(data), step)
		case isFile && isArchive && strings.ContainsAny(content, "=/"):
			packEntries(t, at(name), content)
		case isFile:
			put(t, at(name), strings.ReplaceAll(content, "\\n", "\n"))
		case strings.HasPrefix(step, "!"):
			_, err := os.Lstat(at(step[1:]))
			assert.ErrorIs(t, err, os.ErrNotExist, step)
		default:
			_, err := os.Lstat(at(step))
			assert.NoError(t, err, step)
		}
	}
}

func spaced(args []string) []string {
	for i := range args {
		args[i] = strings.ReplaceAll(args[i], "␣", " ")
	}
	return args
}

// packEntries makes an archive of the format that its name says.
func packEntries(t *testing.T, path, entries string) {
	t.Helper()
	f, known := format.ByName(filepath.Base(path))
	require.True(t, known, path)
	var b bytes.Buffer
	w, err := f.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	for text := range strings.FieldsSeq(entries) {
		e, data := archive.Entry{Modified: time.Unix(1_777_000_000, 0)}, ""
		if at, to, is := strings.Cut(text, "->"); is {
			e.Path, e.Link, e.Kind = at, to, archive.Symlink
		} else if at, to, is := strings.Cut(text, "=>"); is {
			e.Path, e.Link, e.Kind = at, to, archive.Hardlink
		} else if at, is := strings.CutSuffix(text, "/"); is {
			e.Path, e.Kind = at, archive.Folder
		} else {
			e.Path, data, _ = strings.Cut(text, "=")
			e.Size = int64(len(data))
		}
		_, err := w.Add(e, strings.NewReader(data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	put(t, path, b.String())
}

// Whatever was there is there, or was asked to go and is delivered in full.
func TestEvidence(t *testing.T) {
	t.Setenv("ONE", "first")
	t.Setenv("TWO", "second")
	for name, story := range map[string]night{
		"moved to where it lies":          {"in/a.zip: x=1", "0 extract in --into out --after move=in", "in/a.zip", "!in/a-2.zip", "? kept 1 archive: already where they would be moved"},
		"moved through a link to there":   {"in/a.zip: x=1", "done -> in", "0 extract in --into out --after move=done", "in/a.zip"},
		"a link to it is where it goes":   {"in/a.zip: x=1", "done/b: 1", "done/a.zip -> ../in/a.zip", "0 extract in --into out --after move=done", "in/a.zip"},
		"{from} is where it lies":         {"in/a.zip: x=1", "0 extract in --into out --after move={from}", "in/a.zip"},
		"the same bytes are there":        {"in/a.zip: x=1", "done/a.zip: x=1", "0 extract in --into out --after move=done", "!in/a.zip", "done/a.zip"},
		"done below the inbox":            {"in/a.zip: x=1", "0 extract in --recursive --into out --after move=in/done", "in/done/a.zip", "0 extract in --recursive --into out --after move=in/done", "in/done/a.zip", "!in/done/a-2.zip", "? nothing to do"},
		"dates below the inbox":           {"in/a.zip: x=1", "0 extract in --recursive --into out --after move=in/done/{today:yyyy/mm}", "!in/a.zip", "0 extract in --recursive --into out --after move=in/done/{today:yyyy/mm}", "? nothing to do"},
		"one top folder, swapped":         {"in/a.zip: data/x=1", "in/b.zip: data/y=2", "3 extract in --layout auto --fresh --into out --after remove", "in/a.zip", "in/b.zip", "!out/data", "? would also be that of"},
		"top folders, swapped":            {"in/a.zip: data/x=1", "in/b.zip: more/y=2", "out/data/z: 1", "0 extract in --layout auto --fresh --into out --after remove", "!in/a.zip", "out/data/x", "!out/data/z", "out/more/y"},
		"a folder below another":          {"in/a.zip: x=1", "in/a/b.zip: y=2", "3 extract in --recursive --fresh --into out --after remove", "in/a.zip", "!in/a/b.zip", "out/a/b/y", "? the folder of in/a/b.zip"},
		"a folder that has a source":      {"out/a/a.zip: x=1", "3 extract out/a/a.zip --into out --fresh", "out/a/a.zip", "? the source out/a/a.zip"},
		"beside the archives":             {"in/a.zip: x=1", "in/a/b.zip: y=2", "3 extract in --recursive --fresh", "in/a/b.zip"},
		"a root in a folder":              {"in/a.zip: x=1", "in/b.zip: y=2", "p: in/a.zip\tout\\nin/b.zip\tout/a\\n", "3 extract --pairs p --fresh", "out/a/b/y", "!out/a/x"},
		"a receipt in a folder":           {"in/a.zip: x=1", "0 extract in --into out", "3 extract in --into out --fresh --receipt out/a/r.jsonl", "out/a/x"},
		"through a link to its root":      {"real/a/a.zip: x=1", "out -> real", "3 extract real/a/a.zip --into out --fresh", "real/a/a.zip"},
		"one of two destinations failed":  {"in/a.zip: x=1", "two/a/x: other", "p: in/a.zip\tone\\nin/a.zip\ttwo\\n", "3 extract --pairs p --after remove", "in/a.zip", "one/a/x", "? it could not be unpacked to two"},
		"both destinations have it":       {"in/a.zip: x=1", "p: in/a.zip\tone\\nin/a.zip\ttwo\\n", "0 extract --pairs p --after remove", "!in/a.zip", "one/a/x", "two/a/x"},
		"a set onto itself":               {"a.zip: x=1 y=22222222222222222222222222222222222222", "0 parts split a.zip --part-size 100 --into s", "3 convert s/a.zip.001 --to zip --part-size 150 --clash replace", "s/a.zip.002", "0 verify s/a.zip.001"},
		"sums onto the archive":           {"d/x: 1", "2 create a.zip d --sums a.zip", "!a.zip"},
		"sums onto a file":                {"in/a.zip: x=1", "notes: mine", "3 extract in --into out --sums notes", "notes = mine", "!out", "? is not a list of SHA-256 sums"},
		"sums onto a list":                {"in/a.zip: x=1", "0 extract in --into out --sums s", "0 extract in --into out --sums s"},
		"a receipt onto a source":         {"in/a.zip: x=1", "3 extract in/a.zip --into out --receipt in/a.zip", "0 verify in/a.zip"},
		"a receipt onto a file":           {"in/a.zip: x=1", "notes: mine", "3 extract in --into out --receipt notes", "notes = mine"},
		"a receipt that was cut at once":  {"in/a.zip: x=1", `r: {"ki`, "0 extract in --into out --receipt r --skip-done", "0 extract in --into out --receipt r --skip-done", "? done before"},
		"a page onto a file":              {"in/a.zip: x=1", "notes.html: mine", "3 extract in --into out --report notes.html", "notes.html = mine", "0 extract in --into out --report p.html", "0 extract in --into out --report p.html"},
		"a chart onto a file":             {"d/x: 1", "c.png: mine", "3 weigh d --chart c.png", "c.png = mine"},
		"lists onto each other":           {"in/a.zip: x=1", "2 extract in --into out --sums s --receipt s", "!s"},
		"a hard link to a link":           {"x.tar: a=1 l->a h=>l", "x.tar.gz: a=1 l->a h=>l", "0 extract x.tar x.tar.gz --into out --own-name {name} --after remove", "out/x.tar/h = 1", "out/x.tar.gz/h = 1", "!x.tar"},
		"a hard link to a folder":         {"x.tar: d/ h=>d", "x.tar.gz: d/ h=>d", "y.zip: a=1", "7 extract x.tar x.tar.gz y.zip --into out --own-name {name} --after remove", "x.tar", "x.tar.gz", "!y.zip", "out/y.zip/a = 1", "? which is a folder"},
		"a hard link to a hard link":      {"x.tar: a=1 b=>a c=>b", "0 convert x.tar --to zip", "0 extract x.zip --into out", "out/x/c = 1", "0 extract x.tar --into - --entry c", "? 1", "0 convert x.tar --to tar.gz --under u", "0 extract x.tar.gz --into o --layout shared", "o/u/c = 1"},
		"a hard link to what comes later": {"x.tar: b=>a a=1", "7 verify x.tar", "7 extract x.tar --into out", "!out"},
		"hard links to standard output":   {"x.tar.gz: a=12 b=>a c=3 d=>b", "0 extract x.tar.gz --into -", "? 1212312"},
		"hard links in lists of sums":     {"x.tar: a=1 b=>a", "0 verify x.tar --sums s", "0 extract x.tar --into d --layout shared", "0 create y.tar d --top drop --sums t", "0 create z.tar.gz x.tar --sums t", "s = 6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  a\n6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  b\n"},
		"links follow what is moved":      {"x.tar: d/a=1 d/l->a e/m->../d/a k=>d/a", "0 edit x.tar --move d/a=n/b", "0 extract x.tar --into out --layout shared", "out/d/l = 1", "out/e/m = 1", "out/k = 1", "0 convert x.tar --to zip --under u/v", "0 extract x.zip --into o --layout shared", "o/u/v/e/m = 1", "o/u/v/d/l = 1", "0 edit x.zip --move u/v/n=w", "0 extract x.zip --into p --layout shared", "p/u/v/d/l = 1"},
		"links to what is left out":       {"x.tar: a=1 b=>a c=>b", "0 convert x.tar --to tar.gz --drop a", "0 extract x.tar.gz --into out --layout shared", "out/b = 1", "out/c = 1", "!out/a"},
		"a file and a folder at one path": {"d/x: 1", "3 create a.zip --text a=1 --text a/b=2", "!a.zip", "? would have to be a folder", "x.tar: a=1", "3 edit x.tar --text a/b=2", "3 edit x.tar --text q/r=2 --move a=q", "0 extract x.tar --into out", "out/x/a = 1"},
		"a link that leads out":           {"d/x: 1", "d/l -> ../../etc", "3 create a.zip d --after remove", "d/x", "!a.zip", "? --links skip", "0 create a.zip d --links skip --after remove", "d/x"},
		"a link within":                   {"d/x: 1", "d/l -> x", "0 create a.tar d --after remove", "!d", "0 extract a.tar --into out", "out/a/d/l = 1"},
		"names that climb":                {`d/..\x: 1`, "3 create a.zip d --after remove", "!a.zip", "? --names portable", "0 create a.zip d --names portable --after remove", "? 1 path changed", "0 extract a.zip --into out", `out/a/d/..%5Cx = 1`},
		"sums of two nights":              {"in/a.zip: x=1", "0 extract in --into out --receipt r --skip-done --sums s", "in/b.zip: y=1", "0 extract in --into out --receipt r --skip-done --sums s", "s = 6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  a/x\n6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  b/y\n"},
		"sums of archives of one name":    {"d/x: 1", "e/x: 1", "0 create {name}/a.zip d e --each --entry-sums s", "s = 6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  d/a.zip/d/x\n6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b  e/a.zip/e/x\n"},
		"an entry on the second night":    {"in/a.zip: x=1", "0 extract in --into out --receipt r --skip-done --entry x", "0 extract in --into out --receipt r --skip-done --entry x"},
		"none of it on the second night":  {"in/a.zip: x.csv=1", "0 extract in --into out --receipt r --skip-done --ext csv", "in/b.zip: y=1", "0 extract in --into out --receipt r --skip-done --ext csv"},
		"dates written otherwise":         {"x.tar: a=1", "0 extract x.tar --into out --receipt r --since 2026-01-01 --skip-done", "0 extract x.tar --into out --receipt r --since 2026-01-02 --skip-done", "? done before", "6 extract x.tar --into out --receipt r --since 2026-06-01 --skip-done"},
		"a number that is not needed":     {"d/x: 1", "a.zip: y=1", "0 create a.zip d --clash number --skip-done --receipt r", "a-2.zip", "0 create a.zip d --clash number --skip-done --receipt r", "? a-2.zip", "!a-3.zip"},
		"another password":                {"d/x: 1", "0 create a.zip d --encrypt --password-env ONE --receipt r --skip-done", "0 create a.zip d --encrypt --password-env ONE --receipt r --skip-done", "? nothing in it has changed", "3 create a.zip d --encrypt --password-env TWO --receipt r --skip-done", "0 create a.zip d --encrypt --password-env TWO --receipt q --skip-done --clash replace", "0 verify a.zip --password-env TWO"},
		"a set of fewer parts":            {"d/x: 1234567890123456789012345678901234567890", "0 create a.zip d --part-size 100 --receipt r", "a.zip.003", "0 create a.zip d --part-size 1000 --clash replace --receipt r", "!a.zip.002", "0 verify --against r"},
		"a link in place of a file":       {"x.tar: a=1", "0 extract x.tar --into out --receipt r", "0 verify --against r", "out/x/a -> nowhere", "7 verify --against r"},
		"links that were changed":         {"x.tar: a=1 l->/a b:c=2 m->b:c", "0 extract x.tar --into out --receipt r --links rebase --names portable", "0 verify --against r"},
		"a path spelt in another way":     {"x.tar: ./a=1", "b: 2", "0 edit x.tar --put b=a", "? 1 replaced", "0 extract x.tar --into out", "out/x/a = 2"},
		"a folder and one below it":       {"d/s/x: 1", "0 create a.zip d d/s --after remove", "!d", "0 verify a.zip"},
		"an archive into itself":          {"d/x: 1", "0 create d/a.zip d/x", "0 edit d/a.zip --add d", "0 inspect d/a.zip --as names", "? d/x", "6 extract d/a.zip --into o --entry d/a.zip", "2 edit d/a.zip --put d/a.zip=y", "0 verify d/a.zip"},
		"the first of two moved archives": {"in/a.zip: x=1", "in/s/a.zip: y=2", "0 extract in --recursive --into out --after move=done", "done/a.zip", "done/a-2.zip", "!in/a.zip"},
	} {
		t.Run(name, func(t *testing.T) {
			if runtime.GOOS == "windows" && strings.Contains(strings.Join(story, " "), " -> ") {
				t.Skip("links need a right there")
			}
			story.play(t)
		})
	}
}

// A flipped bit in an archive that is stored inside another is noticed, by the sum of the outer.
func TestFlippedInside(t *testing.T) {
	dir := t.TempDir()
	packEntries(t, filepath.Join(dir, "inner.tar"), "x="+strings.Repeat("1", 3000))
	_, errs, code := run(t, dir, "create", "outer.zip", "inner.tar", "--method", "store")
	require.Zero(t, code, errs)
	data, err := os.ReadFile(filepath.Join(dir, "outer.zip"))
	require.NoError(t, err)
	data[2000] ^= 1
	put(t, filepath.Join(dir, "outer.zip"), string(data))
	_, errs, code = run(t, dir, "extract", "outer.zip", "--nested", "--into", "out")
	assert.Equal(t, 7, code, errs)
	assert.Empty(t, tree(t, filepath.Join(dir, "out")))
}

// Edits of one archive at the same time wait for each other: none is lost.
func TestEditsAtOnce(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "a.zip"), "x", "1")
	var group sync.WaitGroup
	const edits = 8
	for i := range edits {
		group.Go(func() {
			_, errs, code := run(t, dir, "edit", "a.zip", "--text", fmt.Sprintf("n%d=%d", i, i))
			assert.Zero(t, code, errs)
		})
	}
	group.Wait()
	names, _, _ := run(t, dir, "inspect", "a.zip", "--as", "names")
	assert.Equal(t, edits+1, strings.Count(names, "\n"), names)
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, children, 1)
}

// What a run needs or has is not replaced, nor swapped away, however its path is written; and what would be nowhere
// does not go.
func TestWhatIsNeeded(t *testing.T) {
	systemtest.NeedsLinks(t)
	for name, c := range map[string]struct {
		args  string
		code  int
		says  string
		stays []string // as they were
	}{
		"a source that comes later":     {"extract a.zip b.zip --into . --layout shared --clash replace", 3, "it is a source", []string{"b.zip"}},
		"the same, by a link":           {"extract a.zip b.zip --into LINK --layout shared --clash replace", 3, "it is a source", []string{"b.zip"}},
		"the receipt":                   {"extract r.zip --into . --layout shared --clash replace --receipt r.jsonl", 3, "it is --receipt r.jsonl", nil},
		"a list that is made later":     {"extract r.zip --into . --layout shared --sums new.sums", 3, "it is --sums new.sums", nil},
		"the job file":                  {"run night.yaml", 3, "the job file", []string{"night.yaml"}},
		"the archive among its sources": {"create b.zip b.zip in --clash replace", 3, "it is a source", []string{"b.zip"}},
		"one that becomes another":      {"create {name}.zip b in b.zip --each --clash replace", 3, "it is a source", []string{"b.zip"}},
		"a part of the set":             {"parts join set.zip.001 --into set.zip.002 --clash replace", 3, "it is a source", []string{"set.zip.002"}},
		"its list":                      {"parts join set.zip.001 --into set.zip.sha256 --clash replace", 3, "it is a list of sums", []string{"set.zip.sha256"}},
		"DIR of --after":                {"extract in/x.zip --into out --fresh --after move=out/x/done", 3, "--after out/x/done lies in it", []string{"out/x/done/old.zip", "in/x.zip"}},
		"DIR of --failed":               {"extract in/x.zip --into out --fresh --failed move=out/x/done", 3, "--failed out/x/done lies in it", []string{"out/x/done/old.zip"}},
		"what another replaced":         {"extract in/x.zip in/y.zip --into new --layout shared --clash replace --after remove", 0, "another archive of this run has replaced", []string{"in/x.zip"}},
		"an entry that is nowhere":      {"extract in --into new --entry one.csv --entry typo.csv --after remove", 6, "typo.csv was asked for, and is nowhere", []string{"in/x.zip", "in/y.zip"}},
		"the same, packed":              {"create new.zip src --entry src/one.csv --entry typo.csv --after remove", 6, "typo.csv was asked for, and is nowhere", []string{"src/one.csv"}},
		"the same, converted":           {"convert in --to tar --into new --entry one.csv --entry typo.csv --after remove", 6, "typo.csv was asked for, and is nowhere", []string{"in/x.zip"}},
		"a snapshot in DIR":             {"extract in/x.zip --into old --layout shared --clash replace --replaced snapshot --receipt s.jsonl", 0, "", []string{"snapshot/one.csv", "snapshot/one-2.csv"}},
		"what stands behind":            {"edit behind.zip --text n=1", 3, "stand behind the archive", []string{"behind.zip"}},
		"the same, and removed":         {"extract behind.zip --into new --after remove", 0, "stand behind the archive", []string{"behind.zip"}},
		"two for one path":              {"edit in/x.zip --move one.csv=n --text n=1", 3, "which is added as well", []string{"in/x.zip"}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			pack(t, filepath.Join(dir, "a.zip"), "b.zip", "not the source", "one.csv", "1")
			pack(t, filepath.Join(dir, "b.zip"), "two.csv", "2")
			pack(t, filepath.Join(dir, "r.zip"), "r.jsonl", "not ours", "new.sums", "not ours", "night.yaml", "hostile")
			pack(t, filepath.Join(dir, "in/x.zip"), "one.csv", "of x")
			pack(t, filepath.Join(dir, "in/y.zip"), "one.csv", "of y, and longer")
			pack(t, filepath.Join(dir, "behind.zip"), "one.csv", "of x")
			behind, err := os.OpenFile(filepath.Join(dir, "behind.zip"), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = behind.WriteString("something that nobody reads")
			require.NoError(t, err)
			require.NoError(t, behind.Close())
			for at, text := range map[string]string{"out/x/done/old.zip": "moved there", "b/f": "f", "src/one.csv": "1", "old/one.csv": "old one",
				"night.yaml": "widecrate: 1\njobs:\n  - name: night\n    extract: {sources: [r.zip], into: ., layout: shared, clash: replace}\n"} {
				put(t, filepath.Join(dir, at), text)
			}
			require.NoError(t, os.Mkdir(filepath.Join(dir, "snapshot"), 0o777))
			require.NoError(t, os.Link(filepath.Join(dir, "old/one.csv"), filepath.Join(dir, "snapshot/one.csv")))
			link := filepath.Join(t.TempDir(), "link")
			require.NoError(t, os.Symlink(dir, link))
			_, stderr, code := run(t, dir, "create", "set.zip", "in", "--part-size", "200", "--method", "store")
			require.Zero(t, code, stderr)
			before := tree(t, dir)
			stdout, stderr, code := run(t, dir, strings.Fields(strings.ReplaceAll(c.args, "LINK", link))...)
			assert.Equal(t, c.code, code, stdout+stderr)
			assert.Contains(t, stdout+stderr, c.says)
			after := tree(t, dir)
			for _, at := range c.stays {
				if at == "snapshot/one-2.csv" {
					assert.Equal(t, "old one", after[at])
					continue
				}
				assert.Equal(t, before[at], after[at], at)
			}
		})
	}
}

// With --halt, nothing that comes after a failure is put into place, or taken away, however many workers there are.
func TestHaltWithWorkers(t *testing.T) {
	for _, command := range []string{"extract in --into out --after remove", "convert in --to tar --into out --after remove", "edit in --text n=1"} {
		for range 3 {
			dir := t.TempDir()
			for n := range 30 {
				pack(t, filepath.Join(dir, fmt.Sprintf("in/%02d.zip", n)), "one.csv", "1")
			}
			put(t, filepath.Join(dir, "in/07.zip"), "PK\x03\x04 and no more")
			before := tree(t, dir)
			_, stderr, code := run(t, dir, append(strings.Fields(command), "--halt", "--workers", "16", "--quiet")...)
			assert.Equal(t, 7, code, stderr)
			after := tree(t, dir)
			for n := 7; n < 30; n++ {
				at := fmt.Sprintf("in/%02d.zip", n)
				assert.Equal(t, before[at], after[at], "%s: %s", command, at)
				assert.NotContains(t, after, fmt.Sprintf("out/%02d/", n), command)
				assert.NotContains(t, after, fmt.Sprintf("out/%02d.tar", n), command)
			}
			assert.NotEqual(t, before, after, command)
		}
	}
}
