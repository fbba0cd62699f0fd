package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// What a run did is taken back: what is there afterwards is what was there before, but for
// what was altered since, and for what may be all that there is.
func TestUndo(t *testing.T) {
	for name, c := range map[string]struct {
		runs   []string // each with --receipt r.jsonl
		change func(t *testing.T, dir string)
		undo   string
		code   int
		says   string
		left   []string // beside what was there before
		lacks  []string // of what was there before
	}{
		"own folders":  {runs: []string{"extract in --into out/deep --nested"}, says: "files removed"},
		"sources come": {runs: []string{"extract in --into out --after move=done/{from} --recursive"}, says: "source files back where they were", left: []string{"done/", "done/in/"}},
		"one that failed, too": {runs: []string{"extract in bad.zip --into out --failed move=failed"}, says: "1 source file back",
			left: []string{"failed/"}},
		"the same lay there": {runs: []string{"extract in/a.zip --into out --after move=same"}, says: "1 source file back"},
		"a part of it is unknown": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			lines := strings.SplitAfter(tree(t, dir)["r.jsonl"], "\n")
			put(t, filepath.Join(dir, "r.jsonl"), strings.Join(lines[:3], ""))
		}, code: 3, says: "cut off in the middle", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"a source of the same size": {runs: []string{"create new.zip kept"}, change: func(t *testing.T, dir string) {
			put(t, filepath.Join(dir, "kept/one.csv"), "2,1\n")
		}, code: 3, says: "the archive may be all that there is", left: []string{"new.zip", "kept/one.csv"}},
		"one that climbs": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			at := filepath.Join(dir, "r.jsonl")
			put(t, at, strings.Replace(tree(t, dir)["r.jsonl"], `"path":"a/one.csv"`, `"path":"../kept/one.csv"`, 1))
		}, code: 3, says: "does not lie below", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"another lies where it was kept": {runs: []string{"extract in/b.zip --into kept --layout shared --clash replace --replaced old"}, change: func(t *testing.T, dir string) {
			put(t, filepath.Join(dir, "old/one.csv"), "8,8\n")
		}, code: 3, says: "it is not what was kept there", left: []string{"kept/one.csv", "kept/two.csv", "old/", "old/one.csv", "old/two.csv"}},
		"a set is one thing": {runs: []string{"create new.zip in --part-size 64k --method store"}, change: func(t *testing.T, dir string) {
			put(t, filepath.Join(dir, "new.zip.sha256"), "of somebody else")
		}, code: 3, says: "a part of the set stays", left: []string{"new.zip.001", "new.zip.sha256"}},
		"an empty folder of others": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "out/a/theirs"), 0o777))
		}, says: "1 archive taken back", left: []string{"out/", "out/a/", "out/a/theirs/"}},
		"moved twice":             {runs: []string{"extract in/a.zip --into out --after move=done", "extract done --into o2 --after move=done2"}, undo: "--all", says: "2 source files", left: []string{"done/", "done2/"}},
		"an archive over another": {runs: []string{"create x.zip in", "create x.zip kept --clash replace"}, undo: "--run 2", says: "1 file had taken the place of others, which do not come back"},
		"delivered twice":         {runs: []string{"extract in/a.zip same/a.zip --into out --layout shared --clash skip"}, says: "2 archives taken back"},
		"sources are gone": {runs: []string{"extract in/a.zip --into out --after remove"}, code: 3, says: "what was delivered may be all that there is",
			left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}, lacks: []string{"in/a.zip"}},
		"a source changed": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			pack(t, filepath.Join(dir, "in/a.zip"), "one.csv", "x")
		}, code: 3, says: "is not there as it was", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"altered since": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			put(t, filepath.Join(dir, "out/a/one.csv"), "9,9\n")
		}, code: 3, says: "one.csv: its content is not what was delivered", left: []string{"out/", "out/a/", "out/a/one.csv"}},
		"interrupted before": {runs: []string{"extract in/a.zip --into out"}, change: func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "out/a/one.csv")))
		}, says: "1 file not there any more"},
		"there before":       {runs: []string{"extract in/a.zip in/b.zip --into kept --layout shared --clash skip"}, says: "1 file there before the run stay"},
		"replaced":           {runs: []string{"extract in/b.zip --into kept --layout shared --clash replace"}, says: "2 files had taken the place of others", lacks: []string{"kept/one.csv", "kept/two.csv"}},
		"replaced, and kept": {runs: []string{"extract in/b.zip --into kept --layout shared --clash replace --replaced old"}, says: "2 files that had been replaced back", left: []string{"old/"}},
		"kept twice":         {runs: []string{"extract in/a.zip in/b.zip --into kept --layout shared --clash replace --replaced old"}, says: "that had been replaced back", left: []string{"old/"}},
		"kept of every run":  {runs: []string{"extract in/b.zip --into kept --layout shared --clash replace --replaced old", "extract in/a.zip --into kept --layout shared --clash replace --replaced old"}, undo: "--all", says: "that had been replaced back", left: []string{"old/"}},
		"what is new was altered": {runs: []string{"extract in/b.zip --into kept --layout shared --clash replace --replaced old"}, change: func(t *testing.T, dir string) {
			put(t, filepath.Join(dir, "kept/one.csv"), "9,9\n")
		}, code: 3, says: "one.csv: its content is not what was delivered", left: []string{"kept/one.csv", "old/", "old/one.csv"}},
		"swapped, and kept": {runs: []string{"extract in/a.zip --into out", "extract in/b.zip --into out --own-name a --fresh --replaced old"}, says: "2 files that had been replaced back",
			left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv", "old/"}},
		"edited":                        {runs: []string{"edit in/a.zip --text n=1 --replaced old"}, says: "1 file that had been replaced back", left: []string{"old/"}},
		"edited, and not kept":          {runs: []string{"edit in/a.zip --text n=1"}, code: 3, says: "how it was before was not kept"},
		"an archive for another":        {runs: []string{"convert in/a.zip --to tar --into x", "convert in/a.zip --to tar --into x --peel 1 --clash replace --replaced old"}, says: "1 file that had been replaced back", left: []string{"x/", "x/a.tar", "old/"}},
		"one that was made for another": {runs: []string{"create x.zip in", "create x.zip kept --clash replace --replaced old"}, says: "1 file that had been replaced back", left: []string{"x.zip", "old/"}},
		"one over another":              {runs: []string{"extract in/a.zip in/b.zip --into out --layout shared --clash replace"}, says: "removed"},
		"a later run has it":            {runs: []string{"extract in/a.zip --into out", "extract in/a.zip --into out"}, undo: "--run 1", code: 3, says: "a later run delivered it, too", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"the last found all":            {runs: []string{"extract in/a.zip --into out", "extract in/a.zip --into out"}, says: "2 files there before the run stay", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"every run":                     {runs: []string{"extract in/a.zip --into out", "extract in --into out", "create x/y.tar.gz in"}, undo: "--all", left: []string{"x/"}},
		"no such run":                   {runs: []string{"extract in/a.zip --into out"}, undo: "--run 2", code: 6, says: "the receipt has 1", left: []string{"out/", "out/a/", "out/a/one.csv", "out/a/sub/", "out/a/sub/two.csv"}},
		"an archive":                    {runs: []string{"create new.zip in kept"}, says: "1 archive taken back"},
		"an archive in parts":           {runs: []string{"create new.zip in --part-size 64k --method store"}, says: "1 archive taken back"},
		"an archive of what is gone":    {runs: []string{"create new.zip in/a.zip --after remove"}, code: 3, says: "the archive may be all that there is", left: []string{"new.zip"}, lacks: []string{"in/a.zip"}},
		"a conversion":                  {runs: []string{"convert in --to tar.zst --into new --after move=old"}, says: "2 archives taken back", left: []string{"new/", "old/"}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			pack(t, filepath.Join(dir, "in/a.zip"), "one.csv", "1,2\n", "sub/two.csv", "3,4\n")
			pack(t, filepath.Join(dir, "in/b.zip"), "one.csv", "5,6\n", "two.csv", "7,8\n")
			pack(t, filepath.Join(dir, "same/a.zip"), "one.csv", "1,2\n", "sub/two.csv", "3,4\n")
			put(t, filepath.Join(dir, "bad.zip"), "PK\x03\x04 and no more")
			put(t, filepath.Join(dir, "kept/one.csv"), "1,2\n")
			put(t, filepath.Join(dir, "kept/two.csv"), "0,0\n")
			before := tree(t, dir)
			for _, args := range c.runs {
				_, stderr, code := run(t, dir, strings.Fields(args+" --receipt r.jsonl")...)
				require.Contains(t, []int{0, 7}, code, stderr)
			}
			if c.change != nil {
				c.change(t, dir)
			}
			delivered := tree(t, dir)
			undo := append([]string{"undo", "r.jsonl"}, strings.Fields(c.undo)...)
			stdout, stderr, code := run(t, dir, append(undo, "--dry-run")...)
			assert.Equal(t, c.code, code, stderr)
			assert.Equal(t, delivered, tree(t, dir))
			assert.Contains(t, strings.ReplaceAll(stdout+stderr, "would be ", ""), c.says)

			stdout, stderr, code = run(t, dir, undo...)
			assert.Equal(t, c.code, code, stderr)
			assert.Contains(t, stdout+stderr, c.says)
			want, got := map[string]string{}, tree(t, dir)
			for at, content := range before {
				want[at] = content
			}
			for _, at := range append(c.left, "r.jsonl") {
				want[at] = got[at]
			}
			for _, at := range c.lacks {
				delete(want, at)
			}
			if name == "a source changed" || name == "edited, and not kept" {
				want["in/a.zip"] = got["in/a.zip"]
			}
			assert.Equal(t, want, got)
			if c.code == 0 && c.undo == "" {
				stdout, stderr, code = run(t, dir, undo...)
				assert.Zero(t, code, stderr)
				assert.Contains(t, stdout, "There is nothing to take back")
				_, stderr, code = run(t, dir, "verify", "--against", "r.jsonl")
				assert.Zero(t, code, stderr)
			}
		})
	}
}

// What was taken back is done again, and what stays names the receipt that is none.
func TestUndoIsBelieved(t *testing.T) {
	dir := tidewatch(t)
	night := []string{"extract", "bundles", "--into", "out", "--receipt", "r.jsonl", "--skip-done"}
	for _, says := range []string{"5 archives unpacked", "5 done before"} {
		stdout, stderr, code := run(t, dir, night...)
		require.Zero(t, code, stderr)
		assert.Contains(t, stdout, says)
	}
	out := tree(t, filepath.Join(dir, "out"))
	stdout, stderr, code := run(t, dir, "undo", "r.jsonl", "--run", "1", "--as", "json")
	require.Zero(t, code, stderr)
	assert.Equal(t, 5, strings.Count(stdout, `{"kind":"undone"`))
	assert.NoDirExists(t, filepath.Join(dir, "out"))
	stdout, stderr, code = run(t, dir, night...)
	require.Zero(t, code, stderr)
	assert.Contains(t, stdout, "5 archives unpacked")
	assert.Equal(t, out, tree(t, filepath.Join(dir, "out")))
	require.NoError(t, os.Rename(filepath.Join(dir, "out/osk-bay"), filepath.Join(dir, "elsewhere")))
	require.NoError(t, os.Symlink(filepath.Join(dir, "elsewhere"), filepath.Join(dir, "out/osk-bay")))
	elsewhere := tree(t, filepath.Join(dir, "elsewhere"))
	_, stderr, code = run(t, dir, "undo", "r.jsonl")
	assert.Equal(t, 3, code)
	assert.Contains(t, stderr, "osk-bay is a link now")
	assert.Equal(t, elsewhere, tree(t, filepath.Join(dir, "elsewhere")))
	for want, args := range map[int]string{2: "r.jsonl --all --run 1", 7: "bundles/osk-bay.zip", 8: "missing.jsonl"} {
		_, stderr, code := run(t, dir, append([]string{"undo"}, strings.Fields(args)...)...)
		assert.Equal(t, want, code, stderr)
	}
}

// A run of a job file is one run, in the list and when it is taken back; a receipt that others may write to is not believed.
func TestUndoOfJobs(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "in/a.zip"), "one.csv", "1,2\n")
	before := tree(t, dir)
	put(t, filepath.Join(dir, "night.yaml"), "widecrate: 1\njobs:\n  - name: first\n    extract: {sources: [in], into: out}\n  - name: second\n    follows: first\n    create: {archive: x.zip, sources: [out]}\n")
	for range 2 {
		_, stderr, code := run(t, dir, "run", "night.yaml", "--receipt", "r.jsonl")
		require.Zero(t, code, stderr)
		stdout, stderr, code := run(t, dir, "undo", "r.jsonl", "--list", "--as", "json")
		require.Zero(t, code, stderr)
		assert.Contains(t, stdout, `"command":"run"`)
		assert.Contains(t, stdout, `"archives":2,"files":2,`)
		systemtest.NeedsLinks(t) // where there are rights
		require.NoError(t, os.Chmod(filepath.Join(dir, "r.jsonl"), 0o666))
		_, stderr, code = run(t, dir, "undo", "r.jsonl")
		assert.Equal(t, 3, code)
		assert.Contains(t, stderr, "others may write to it")
		require.NoError(t, os.Chmod(filepath.Join(dir, "r.jsonl"), 0o600))
		_, stderr, code = run(t, dir, "undo", "r.jsonl")
		require.Zero(t, code, stderr)
		after := tree(t, dir)
		delete(after, "night.yaml")
		delete(after, "r.jsonl")
		assert.Equal(t, before, after)
	}
}

// The folders of one that was swapped come back as they were, with their permissions and times.
func TestUndoOfSwapped(t *testing.T) {
	systemtest.NeedsLinks(t) // where there are rights
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "n.zip"), "one.csv", "1,2\n")
	put(t, filepath.Join(dir, "out/n/sub/old.csv"), "old")
	sub, then := filepath.Join(dir, "out/n/sub"), time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chmod(sub, 0o700))
	require.NoError(t, os.Chtimes(sub, then, then))
	_, stderr, code := run(t, dir, "extract", "n.zip", "--into", "out", "--fresh", "--replaced", "kept", "--receipt", "r.jsonl")
	require.Zero(t, code, stderr)
	assert.NoDirExists(t, sub)
	_, stderr, code = run(t, dir, "undo", "r.jsonl")
	require.Zero(t, code, stderr)
	info, err := os.Stat(sub)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.True(t, info.ModTime().Equal(then), info.ModTime())
	assert.NoDirExists(t, filepath.Join(dir, "kept/n"))
	assert.Equal(t, "old", tree(t, dir)["out/n/sub/old.csv"])
}
