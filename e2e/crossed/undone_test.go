package crossed

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// evening is a folder in which something was done that is then taken back.
type evening struct {
	*rand.Rand
	t      *testing.T
	dir    string
	stands map[string][][]string // contents, each with those of which it can be made again: all of one row
	n      int
}

// did are what may have been done, each with the contents that it makes: what they are made of.
var did = []string{
	"extract DIR/in --into DIR/out --layout shared --clash replace --replaced DIR/kept",
	"extract DIR/in --into DIR/out --layout shared --clash replace --replaced DIR/kept --after move=DIR/done",
	"extract DIR/in --into DIR/out --layout shared --clash newer",
	"extract DIR/in --into DIR/out --layout own --fresh --replaced DIR/kept",
	"extract DIR/in --into DIR/new --layout own --after move=DIR/done/{from}",
	"convert DIR/in --to tar --into DIR/new --clash replace --replaced DIR/kept",
	"create DIR/new/x.zip DIR/src --clash replace --replaced DIR/kept",
	"create DIR/new/x.zip DIR/src --part-size 64k --clash replace --replaced DIR/kept",
	"edit DIR/in/a.zip --text note=%d --replaced DIR/kept",
	// Odd places to keep what is replaced.
	"extract DIR/in --into DIR/out --layout shared --clash replace --replaced DIR/out",
	"extract DIR/in --into DIR/out --layout shared --clash replace --replaced DIR/out/a/../a",
	"extract DIR/in --into DIR/out --layout shared --clash replace --replaced DIR/in --after move=DIR/in/done",
	"extract DIR/in --into DIR/out --layout own --fresh --replaced DIR/out",
	"edit DIR/in/a.zip --text note=%d --replaced DIR/in",
	"create DIR/new/x.zip DIR/src --clash replace --replaced DIR/src",
}

func (e *evening) put(at, text string) {
	path := filepath.Join(e.dir, filepath.FromSlash(at))
	require.NoError(e.t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(e.t, os.WriteFile(path, []byte(text), 0o666))
}

// contents are those of all files, but for the receipt.
func (e *evening) contents() map[string]bool {
	found := map[string]bool{}
	for _, path := range e.paths(fs.FileMode.IsRegular) {
		text, err := os.ReadFile(path)
		require.NoError(e.t, err)
		found[string(text)] = true
	}
	return found
}

// paths are those of what is there, of a kind, but for the receipt.
func (e *evening) paths(kind func(fs.FileMode) bool) (paths []string) {
	require.NoError(e.t, filepath.WalkDir(e.dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && kind(d.Type()) && d.Name() != "receipt" && path != e.dir {
			paths = append(paths, path)
		}
		return err
	}))
	return paths
}

func (e *evening) any(kind func(fs.FileMode) bool) string {
	paths := e.paths(kind)
	return paths[e.IntN(len(paths))]
}

// madeOf notes that what is in some folders now, and was not before, can be made of others.
func (e *evening) madeOf(before map[string]bool, of ...[]string) {
	for content := range e.contents() {
		if !before[content] {
			e.stands[content] = append(e.stands[content], of...)
		}
	}
}

// isSomewhere reports whether a content is there, or can be made of others that are.
func (e *evening) isSomewhere(content string, there map[string]bool) bool {
	return there[content] || slices.ContainsFunc(e.stands[content], func(of []string) bool {
		return !slices.ContainsFunc(of, func(c string) bool { return !e.isSomewhere(c, there) })
	})
}

// broken changes something: a file, a folder, or what the receipt has. It reports whether the receipt lies now.
func (e *evening) broken() (lies bool) {
	file, other := e.any(fs.FileMode.IsRegular), e.any(fs.FileMode.IsRegular)
	receipt := filepath.Join(e.dir, "receipt")
	said, err := os.ReadFile(receipt)
	require.NoError(e.t, err)
	text, err := os.ReadFile(other)
	require.NoError(e.t, err)
	e.n++
	ours := fmt.Sprintf("of ours %d", e.n)
	switch k := e.IntN(16); k {
	case 0:
		require.NoError(e.t, os.WriteFile(file, []byte(ours), 0o666))
	case 1: // of the same size
		fresh := bytes.Repeat([]byte{byte('A' + e.n%26)}, len(text))
		require.NoError(e.t, os.WriteFile(other, fresh, 0o666))
	case 2:
		require.NoError(e.t, os.Remove(file))
	case 3:
		require.NoError(e.t, os.Rename(file, file+"-away"))
	case 4:
		require.NoError(e.t, os.WriteFile(file, text, 0o666))
	case 5:
		for _, move := range [][2]string{{file, file + "~"}, {other, file}, {file + "~", other}} {
			if file != other {
				require.NoError(e.t, os.Rename(move[0], move[1]))
			}
		}
	case 6, 7:
		dir := e.any(fs.FileMode.IsDir)
		require.NoError(e.t, os.Rename(dir, dir+"-away"))
		if k == 7 {
			require.NoError(e.t, os.Symlink(dir+"-away", dir))
		}
	case 8:
		if file != other {
			require.NoError(e.t, os.Remove(file))
			require.NoError(e.t, os.Link(other, file))
		}
	case 9:
		require.NoError(e.t, os.Rename(file, file+"-away"))
		require.NoError(e.t, os.Symlink(other, file))
	case 10:
		e.put(fmt.Sprintf("out/d/%d", e.n), ours)
		require.NoError(e.t, os.MkdirAll(filepath.Join(e.dir, "new/empty"), 0o777))
	case 11:
		require.NoError(e.t, os.Truncate(receipt, int64(e.IntN(len(said)+1))))
	case 12:
		lines := bytes.SplitAfter(said, []byte("\n"))
		at := e.IntN(len(lines))
		require.NoError(e.t, os.WriteFile(receipt, bytes.Join(slices.Delete(lines, at, at+1), nil), 0o666))
	case 13, 14, 15: // one path, or sum, for another
		lies = true
		what := regexp.MustCompile([]string{`"(path|kept|to|from|root|swapped|destination|source)":"[^"]*"`, `"[a-z_]*sha256":"[^"]*"`, `"(path|kept|to|from)":"[^"]*"`}[k-13])
		places := what.FindAllIndex(said, -1)
		if len(places) == 0 {
			break
		}
		at, from := places[e.IntN(len(places))], places[e.IntN(len(places))]
		value := said[from[0]:from[1]]
		value = value[bytes.IndexByte(value, ':'):]
		if k == 15 {
			value = fmt.Appendf(nil, ":%q", []string{e.dir + "/elsewhere/one.csv", e.dir + "/out/../elsewhere/one.csv", "../../elsewhere/one.csv", e.dir + "/elsewhere"}[e.IntN(4)])
		}
		name := said[at[0] : at[0]+bytes.IndexByte(said[at[0]:], ':')]
		require.NoError(e.t, os.WriteFile(receipt, slices.Concat(said[:at[0]], name, value, said[at[1]:]), 0o666))
	}
	return lies
}

// What was there before a run, and what anybody changed since, is somewhere after the run was taken back, whatever was
// broken in between; and whatever a receipt says, nothing changes outside the folders that its run named.
func TestLawOfEvidence(t *testing.T) {
	systemtest.NeedsLinks(t)
	seed := uint64(*rounds) + 20260501
	for round := range *rounds * 20 {
		e := &evening{Rand: rand.New(rand.NewPCG(seed, uint64(round))), t: t, dir: t.TempDir(), stands: map[string][][]string{}}
		for at, text := range map[string]string{"src/one.csv": "packed one", "src/d/two.csv": "packed two", "out/one.csv": "old one", "out/a/one.csv": "old one of a", "out/a/x.csv": "old x of a",
			"new/x.zip": "an old archive", "new/a.tar": "another", "elsewhere/one.csv": "lies elsewhere", "kept/one.csv": "kept before"} {
			e.put(at, text)
		}
		for name, with := range map[string][]string{"a.zip": {"one.csv=new one", "x.csv=new x"}, "b.tar.gz": {"one.csv=newer one", "d/two.csv=new two"}} {
			args := []string{"create", filepath.Join(e.dir, "in", name), "-q", "--reproducible"}
			for _, text := range with {
				args = append(args, "--text", text)
			}
			_, errs, code := cli(t, "", args...)
			require.Zero(t, code, errs)
		}
		sources := func(dir string) (all []string) {
			entries, err := os.ReadDir(filepath.Join(e.dir, dir))
			require.NoError(t, err)
			for _, entry := range entries {
				if text, err := os.ReadFile(filepath.Join(e.dir, dir, entry.Name())); err == nil {
					all = append(all, string(text))
				}
			}
			return all
		}
		receipt, log := filepath.Join(e.dir, "receipt"), []string(nil)
		for range 1 + e.IntN(2) {
			what := did[e.IntN(len(did))]
			if strings.Contains(what, "%d") {
				what = fmt.Sprintf(what, e.IntN(1000))
			}
			before, of := e.contents(), [][]string{}
			if strings.HasPrefix(what, "create") {
				of = append(of, []string{"packed one", "packed two"})
			} else {
				for _, source := range sources("in") {
					of = append(of, []string{source})
				}
			}
			_, errs, code := cli(t, "", append(strings.Fields(strings.ReplaceAll(what, "DIR", e.dir)), "--receipt", receipt, "-q")...)
			log = append(log, fmt.Sprint(what, code, errs))
			e.madeOf(before, of...)
		}
		lies := false
		for range 1 + e.IntN(3) {
			lies = e.broken() || lies
		}
		before := e.contents()
		elsewhere, err := Look(filepath.Join(e.dir, "elsewhere"))
		if err != nil {
			elsewhere = nil // it was moved away
		}
		for _, args := range [][]string{{"--dry-run"}, nil, {"--all"}, {"--all"}} {
			_, errs, code := cli(t, "", append([]string{"undo", receipt, "-q", "--workers", fmt.Sprint(1 + e.IntN(4))}, args...)...)
			log = append(log, fmt.Sprint("undo", args, code, errs))
			require.Contains(t, []int{0, 1, 3, 6, 7, 8, 10}, code, "round %d: %s", round, strings.Join(log, "\n"))
			require.NotContains(t, errs, "a fault of ours", "round %d: %s", round, strings.Join(log, "\n"))
			if args != nil && args[0] == "--dry-run" {
				require.True(t, maps.Equal(before, e.contents()), "round %d: a dry run did something: %s", round, strings.Join(log, "\n"))
			}
		}
		if elsewhere != nil {
			now, err := Look(filepath.Join(e.dir, "elsewhere"))
			require.NoError(t, err)
			assert.Empty(t, elsewhere.Differences(now), "round %d", round)
		}
		if lies {
			continue
		}
		after := e.contents()
		for content := range before {
			require.True(t, e.isSomewhere(content, after), "round %d: %.40q is nowhere: %s", round, content, strings.Join(log, "\n"))
		}
	}
}
