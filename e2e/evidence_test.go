package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A night is a story of files and commands: "in/a.zip: x=1 y=2" is an archive and "in/a: 1"
// a file, "a -> b" a link, "3 extract in" a command with its exit code, and after that
// "a.zip" is there, "!a.zip" is not, "a = 1" has that content, and "? text" was printed by
// the last command.
type night []string

func (n night) play(t *testing.T) {
	dir := t.TempDir()
	printed := ""
	for _, step := range n {
		at := func(name string) string { return filepath.Join(dir, filepath.FromSlash(strings.TrimSpace(name))) }
		code, args, _ := strings.Cut(step, " ")
		name, content, isFile := strings.Cut(step, ": ")
		link, target, isLink := strings.Cut(step, " -> ")
		path, text, isContent := strings.Cut(step, " = ")
		switch {
		case strings.Trim(code, "0123456789") == "" && args != "":
			out, errs, got := run(t, dir, strings.Fields(args)...)
			printed = out + errs
			require.Equal(t, code, strconv.Itoa(got), "%s: %s", step, printed)
		case strings.HasPrefix(step, "? "):
			assert.Contains(t, printed, step[2:], step)
		case isLink:
			if err := os.Symlink(target, at(link)); err != nil {
				t.Skip("no links here")
			}
		case isContent:
			data, err := os.ReadFile(at(path))
			assert.NoError(t, err, step)
			assert.Equal(t, text, string(data), step)
		case isFile && strings.Contains(content, "="):
			var pairs []string
			for pair := range strings.FieldsSeq(content) {
				entry, data, _ := strings.Cut(pair, "=")
				pairs = append(pairs, entry, data)
			}
			require.NoError(t, os.MkdirAll(filepath.Dir(at(name)), 0o777))
			pack(t, at(name), pairs...)
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

// Whatever was there is there, or was asked to go and is delivered in full.
func TestEvidence(t *testing.T) {
	for name, story := range map[string]night{
		"moved to where it lies":          {"in/a.zip: x=1", "0 extract in --into out --after move=in", "in/a.zip", "!in/a-2.zip", "? it lies already where it would be moved"},
		"moved through a link to there":   {"in/a.zip: x=1", "done -> in", "0 extract in --into out --after move=done", "in/a.zip"},
		"a link to it is where it goes":   {"in/a.zip: x=1", "done/b: 1", "done/a.zip -> ../in/a.zip", "0 extract in --into out --after move=done", "in/a.zip"},
		"{parent} is where it lies":       {"in/a.zip: x=1", "0 extract in --into out --after move={parent}", "in/a.zip"},
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
		"one of two destinations failed":  {"in/a.zip: x=1", "two/a/x: other", "p: in/a.zip\tone\\nin/a.zip\ttwo\\n", "3 extract --pairs p --after remove", "in/a.zip", "one/a/x", "? not all of it could be unpacked to two"},
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
