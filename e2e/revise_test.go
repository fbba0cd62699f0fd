package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// An archive is changed in place, whole or not at all.
func TestEditInPlace(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "edit", "bundles/osk-bay.zip", "--add", "corrections", "--under", "also", "--top", "drop", "--remove", "*-01.zip",
		"--move", "may=2026/may", "--put", "tidewatch.txt=about.txt", "--text", "2026/may/osk-bay-2026-05-02.zip=gone", "--as", "json")
	require.Equal(t, 0, code, stderr)
	var line map[string]any
	first, _, _ := strings.Cut(stdout, "\n")
	require.NoError(t, json.Unmarshal([]byte(first), &line))
	for key, want := range map[string]float64{"added": 3, "replaced": 1, "removed": 1, "moved": 10, "same": 0} {
		assert.Equal(t, want, line[key], key)
	}
	stdout, _, _ = run(t, dir, "inspect", "bundles/osk-bay.zip", "--as", "names", "--sort", "path")
	assert.Equal(t, 10+1+2+1, strings.Count(stdout, ".zip")+strings.Count(stdout, "about.txt"), stdout)
	assert.Contains(t, stdout, "also/osk bay [v1].zip\n")
	_, stderr, code = run(t, dir, "verify", "bundles/osk-bay.zip")
	assert.Equal(t, 0, code, stderr)

	if systemtest.HasLinks(t) {
		require.NoError(t, os.Symlink("bundles/osk-bay.zip", filepath.Join(dir, "link.zip")))
		_, stderr, code = run(t, dir, "edit", "link.zip", "--text", "by-link.txt=1")
		assert.Equal(t, 0, code, stderr)
		info, err := os.Lstat(filepath.Join(dir, "link.zip"))
		require.NoError(t, err)
		assert.NotZero(t, info.Mode()&os.ModeSymlink, "a link stays one")
	}
	before := tree(t, dir)
	for want, cases := range map[int][][]string{
		2: {{"bundles/osk-bay.zip"}, {"bundles/osk-bay.zip", "--move", "x"}, {"bundles/osk-bay.zip", "--text", "../a=1"}, {}, {"survey/grids.tar.gz", "--level", "x"},
			{"bundles/osk-bay.zip", "--add", "corrections", "--password-env", "HOME"}},
		3: {{"bundles/osk-bay.zip", "--move", "about.txt=also/osk bay [v1].zip"}, {"bundles/osk-bay.zip", "--move", "about.txt=x", "--text", "x=1"}},
		0: {{"bundles/osk-bay.zip", "--remove", "nothing*"}, {"bundles", "--text", "new.txt=1", "--dry-run"}},
		6: {{"bundles/osk-bay.zip", "--move", "abuot.txt=a"}},
		7: {{"tidewatch.txt", "--text", "a=b"}},
		4: {{"survey/currents.tar.gz.001", "--text", "a=b"}},
		8: {{"missing.zip", "--text", "a=b"}, {"bundles/osk-bay.zip", "--add", "missing"}},
	} {
		for _, args := range cases {
			_, stderr, code := run(t, dir, append([]string{"edit"}, args...)...)
			assert.Equal(t, want, code, "%q: %s", args, stderr)
		}
	}
	assert.Equal(t, before, tree(t, dir), "nothing has changed")

	// New entries of a locked archive are locked when that is asked for.
	t.Setenv("TIDE", "spring tide")
	stdout, _, code = run(t, dir, "edit", "locked/gauges.zip", "--text", "open.txt=1")
	assert.Equal(t, 0, code)
	assert.Contains(t, stdout, "1 entry in it locked; what was added is not")
	_, stderr, code = run(t, dir, "edit", "locked/gauges.zip", "--text", "open.txt=2", "--encrypt", "--password-env", "TIDE")
	assert.Equal(t, 0, code, stderr)
	stdout, _, _ = run(t, dir, "inspect", "locked/gauges.zip", "--as", "json")
	assert.Equal(t, 2, strings.Count(stdout, `"encrypted":true`))
	stdout, stderr, code = run(t, dir, "extract", "locked/gauges.zip", "--into", "-", "--password-env", "TIDE", "--entry", "open.txt")
	assert.Equal(t, 0, code, stderr)
	assert.Equal(t, "2", stdout)
}

// Archives in two folders are compared one by one, and those in a list.
func TestCompareMany(t *testing.T) {
	dir := tidewatch(t)
	_, stderr, code := run(t, dir, "convert", "bundles", "--to", "tar.zst", "--into", "new")
	require.Equal(t, 0, code, stderr)
	_, stderr, code = run(t, dir, "compare", "bundles", "new", "--archives-by", "stem")
	assert.Equal(t, 0, code, stderr)
	_, _, code = run(t, dir, "compare", "bundles", "new", "--archives-by", "name")
	assert.Equal(t, 1, code, "nothing has the same name")
	_, stderr, code = run(t, dir, "edit", "new/osk-bay.tar.zst", "--text", "more=1")
	require.Equal(t, 0, code, stderr)
	require.NoError(t, os.Remove(filepath.Join(dir, "new/pell-point.tar.zst")))
	stdout, stderr, code := run(t, dir, "compare", "bundles", "new", "--archives-by", "stem", "--as", "json", "--workers", "3")
	assert.Equal(t, 1, code, stderr)
	assert.Contains(t, stdout, `{"kind":"difference","path":"more","status":"only in B","size_b":1}`)
	assert.Contains(t, stdout, `"a":"bundles/pell-point.zip","b":""`)
	assert.True(t, strings.HasSuffix(stdout, `{"kind":"totals","same":3,"different":1,"alone":1,"failed":0}`+"\n"), stdout)

	for list, want := range map[string]int{"a,b\nbundles/osk-bay.zip,new/osk-bay.tar.zst\n": 1, "bundles/gull-ness.zip;new/gull-ness.tar.zst\n": 0,
		"b,a\nnone.zip,bundles\nbundles/osk-bay.zip,bundles/osk-bay.zip": 8, "only one\n": 2} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "pairs.csv"), []byte(list), 0o666))
		_, stderr, code = run(t, dir, "compare", "--pairs", "pairs.csv")
		assert.Equal(t, want, code, "%s: %s", list, stderr)
	}
	_, stderr, code = run(t, dir, "compare", "bundles", "nowhere", "--archives-by", "stem")
	assert.Equal(t, 8, code, stderr)
	for _, wrong := range [][]string{{"bundles"}, {"a", "b", "--pairs", "x"}, {"a", "b", "--recursive"}} {
		_, _, code = run(t, dir, append([]string{"compare"}, wrong...)...)
		assert.Equal(t, 2, code, wrong)
	}

	// What was made of a folder has one folder more.
	_, stderr, code = run(t, dir, "create", "top.zip", "corrections")
	require.Equal(t, 0, code, stderr)
	for _, sides := range [][]string{{"top.zip", "corrections"}, {"corrections", "top.zip"}} {
		stdout, stderr, code = run(t, dir, append([]string{"compare"}, sides...)...)
		assert.Equal(t, 0, code, stderr)
		assert.Contains(t, stdout, "lies in corrections/, which does not count")
	}
}

// Many archives are edited, each whole or as it was, and a second time nothing changes.
func TestEditMany(t *testing.T) {
	dir := tidewatch(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bundles", "a-cut.zip"), []byte("PK\x03\x04 and no more"), 0o666))
	change := []string{"edit", "bundles", "--put", "tidewatch.txt=about.txt", "--text", "note.txt=clean", "--move", "may=2026/may", "--remove", "*-31.zip", "--as", "json"}
	_, stderr, code := run(t, dir, append(change, "--halt", "--workers", "1")...)
	assert.Equal(t, 7, code, stderr)
	assert.Contains(t, stderr, "stopped at the first failure: 5 archives were not taken")
	stdout, stderr, code := run(t, dir, append(change, "--report", "page.html")...)
	assert.Equal(t, 7, code, stderr)
	assert.Equal(t, 5, strings.Count(stdout, `"added":2,`), stdout)
	assert.FileExists(t, filepath.Join(dir, "page.html"))
	before := tree(t, dir)
	require.NoError(t, os.Remove(filepath.Join(dir, "bundles", "a-cut.zip")))
	delete(before, "bundles/a-cut.zip")
	for _, again := range [][]string{change, append(change, "--dry-run")} {
		stdout, stderr, code = run(t, dir, again...)
		assert.Equal(t, 0, code, stderr)
		assert.Equal(t, 5, strings.Count(stdout, `"removed":0,"moved":0,`), stdout)
		assert.Equal(t, before, tree(t, dir))
	}
	stdout, _, _ = run(t, dir, "inspect", "bundles", "--as", "names", "--pick", "2026/may/*")
	assert.NotEmpty(t, stdout)
}

// Many archives become others, each whole, one that fails aside.
func TestConvertMany(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "convert", "readings", "--to", "tar.gz", "--into", "new", "--no-clutter", "--as", "json")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, "merrin-deep-2026-05-07.zip › levels.csv")
	assert.Equal(t, 60, strings.Count(stdout, `"kind":"archive"`))
	assert.Equal(t, 59, len(tree(t, filepath.Join(dir, "new"))))
	_, stderr, code = run(t, dir, "compare", "new/gull-ness-2026-05-01.tar.gz", "readings/gull-ness-2026-05-01.zip", "--no-clutter")
	assert.Equal(t, 0, code, stderr)

	t.Setenv("TIDE", "spring tide")
	t.Setenv("NEW", "neap tide")
	for _, c := range []struct{ args, check string }{
		{"bundles/osk-bay.zip --to zip --method zstd --into a", "a/osk-bay.zip"},
		{"bundles/osk-bay.zip --to zip --level 9 --into a --clash number", "a/osk-bay-2.zip"},
		{"bundles/osk-bay.zip --to zip --into b --part-size 64k --part-style zip", "b/osk-bay.z01"},
		{"survey/harbour.z02 --to tar.zst --into b", "b/harbour.tar.zst"},
		{"locked/gauges.zip --to tar --into c --password-env TIDE", "c/gauges.tar"},
		{"locked/gauges.zip --to zip --into c --password-env TIDE --encrypt --new-password-env NEW", "c/gauges.zip --password-env NEW"},
		{"locked/gauges.zip --to zip --into d --password-env TIDE --encrypt", "d/gauges.zip --password-env TIDE"},
		{"b/harbour.tar.zst --to zip --into e --rename {nnn}{ext} --flatten", "e/harbour.zip"},
	} {
		_, stderr, code := run(t, dir, append([]string{"convert"}, strings.Fields(c.args)...)...)
		require.Equal(t, 0, code, "%s: %s", c.args, stderr)
		_, stderr, code = run(t, dir, append([]string{"verify"}, strings.Fields(c.check)...)...)
		assert.Equal(t, 0, code, "%s: %s", c.check, stderr)
	}
	stdout, _, _ = run(t, dir, "inspect", "e/harbour.zip", "--as", "names")
	assert.Equal(t, "001.dat 002.dat 003.dat 004.dat 005.dat 006.dat 007.txt", strings.Join(strings.Fields(stdout), " "))
	for want, cases := range map[int][]string{
		0: {"instruments/suite-1.tar --to zip --into f --series suite-{n}.tar", "."},
		2: {"bundles", "bundles --to csv", "bundles --to tar.gz --method store", "bundles --to tar --encrypt", "bundles --to zip --new-password-env NEW", "bundles --to zip --nested"},
		3: {"bundles --to zip", "bundles/osk-bay.zip corrections --to tar --rename same"},
		6: {"bundles --to tar --into g --ext nothing"},
		8: {"missing --to tar"},
	} {
		for _, args := range cases {
			if args == "." {
				args = "demo-has-none --to tar"
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "demo-has-none"), 0o777))
			}
			_, stderr, code := run(t, dir, append([]string{"convert"}, strings.Fields(args)...)...)
			assert.Equal(t, want, code, "%s: %s", args, stderr)
		}
	}
	found, err := filepath.Glob(filepath.Join(dir, "*", ".widecrate*"))
	require.NoError(t, err)
	assert.Empty(t, found)
}

// A conversion leaves a receipt, is done once, and takes an old archive away only when the new
// one was read back and has all of it.
func TestConvertInPlaceOf(t *testing.T) {
	dir := tidewatch(t)
	require.NoError(t, os.Rename(filepath.Join(dir, "bundles"), filepath.Join(dir, "in")))
	pack(t, filepath.Join(dir, "in/plain.tar"), "a.csv", "1,2\n", "b.txt", "more")
	before := tree(t, filepath.Join(dir, "in"))
	for _, c := range []struct {
		args string
		code int
		says string
		left int // old archives
	}{
		{"--to zip --into a --after remove --dry-run", 0, "6 archives would be removed", 6},
		{"--to zip --into a --after remove --drop *-01.zip --drop b.txt", 0, "not all of it is in the new archive", 6},
		{"--to tar.gz --into b --receipt r.jsonl", 0, "6 archives converted", 6},
		{"--to tar.gz --into b --receipt r.jsonl", 3, "it exists already", 6},
		{"--to tar.gz --into b --receipt r2.jsonl --done-in r.jsonl --skip-done --after remove", 0, "0 archives converted, 6 done before", 6},
		{"--to tar.gz --into b --receipt r.jsonl --skip-done --ext csv", 3, "--ext is not as it was", 6},
		{"--to tar.gz --into c --receipt full/x --after remove", 10, "✗ full", 6},
		{"--to tar.gz --into c --archives plain* --after move=in --read-back", 0, "already where they would be moved", 6},
		{"--to tar.gz --into c --clash replace --receipt c.jsonl --after move=old/{from}", 0, "6 archives moved to " + filepath.Join(dir, "old/in"), 0},
	} {
		if strings.Contains(c.args, "full/x") {
			put(t, filepath.Join(dir, "full"), "a file where the folder is to be")
		}
		stdout, stderr, code := run(t, dir, append([]string{"convert", "in"}, strings.Fields(c.args)...)...)
		assert.Equal(t, c.code, code, "%s: %s", c.args, stderr)
		assert.Contains(t, stdout+stderr, c.says, c.args)
		left := tree(t, filepath.Join(dir, "in"))
		assert.Len(t, left, c.left, c.args)
		if strings.Contains(c.args, "into a") {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "a")))
		}
	}
	assert.Equal(t, before, tree(t, filepath.Join(dir, "old/in")))
	for _, name := range []string{"b", "c"} {
		_, stderr, code := run(t, dir, "verify", "--against", map[string]string{"b": "r.jsonl", "c": "c.jsonl"}[name])
		assert.Zero(t, code, stderr)
		_, stderr, code = run(t, dir, "compare", name+"/osk-bay.tar.gz", "old/in/osk-bay.zip")
		assert.Zero(t, code, stderr)
	}
}

// Sets are edited as files are, and cut again as they were; others stay as they are.
func TestEditSets(t *testing.T) {
	dir := tidewatch(t)
	require.NoError(t, os.Remove(filepath.Join(dir, "survey/currents.tar.gz.001")))
	put(t, filepath.Join(dir, "big.bin"), strings.Repeat(tideTable(), 40))
	before := tree(t, filepath.Join(dir, "survey"))
	for _, change := range []string{"--text a/note.txt=hello", "--remove *1* --remove *2* --remove *3*", "--put big.bin=more/big.bin --level 0"} {
		args := append([]string{"edit", "survey/harbour.zip", "survey/grids.tar.gz.001", "--receipt", "r.jsonl", "--replaced", "old", "--read-back"}, strings.Fields(change)...)
		stdout, stderr, code := run(t, dir, args...)
		require.Zero(t, code, stderr)
		assert.Contains(t, stdout, "2 archives edited", change)
		assert.Contains(t, stdout, "entries read back", change)
		after := tree(t, filepath.Join(dir, "survey"))
		assert.NotEqual(t, before, after)
		stdout, stderr, code = run(t, dir, "verify", "survey/harbour.zip", "survey/grids.tar.gz.001")
		assert.Zero(t, code, stderr)
		assert.Contains(t, stdout, "2 archives verified")
		_, stderr, code = run(t, dir, "parts", "scan", "survey/harbour.zip", "survey/grids.tar.gz.001", "--check-sums", "beside")
		assert.Zero(t, code, stderr)
		if !strings.Contains(change, "--remove") {
			stdout, stderr, code = run(t, dir, args...)
			require.Zero(t, code, stderr)
			assert.Contains(t, stdout, "nothing changes", change)
			assert.Equal(t, after, tree(t, filepath.Join(dir, "survey")))
		}
		_, stderr, code = run(t, dir, "undo", "r.jsonl", "--run", "1")
		assert.Zero(t, code, stderr)
		assert.Equal(t, before, tree(t, filepath.Join(dir, "survey")), change)
		require.NoError(t, os.Remove(filepath.Join(dir, "r.jsonl")))
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "old")))
	}
	for i, name := range []string{"aa", "ab", "ac", "ad"} {
		put(t, filepath.Join(dir, "x.tar.gz."+name), before[fmt.Sprintf("grids.tar.gz.00%d", i+1)])
	}
	_, stderr, code := run(t, dir, "edit", "x.tar.gz.aa", "--text", "a=b")
	assert.Equal(t, 3, code, stderr)
	assert.Contains(t, stderr, "it is in parts with names that are only read")
}

// Archives inside are changed as well, at any depth, and what is around them is whole, or as it was.
func TestEditNested(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "inner.zip"), "a.csv", "1", "x.log", "2")
	put(t, filepath.Join(dir, "y.log"), "3")
	put(t, filepath.Join(dir, "z.log"), "4")
	for _, args := range []string{"mid.tar inner.zip y.log", "outer.tar.gz mid.tar z.log", "outer.zip mid.tar z.log inner.zip", "outer.tar mid.tar z.log", "note.log.gz z.log"} {
		_, stderr, code := run(t, dir, append([]string{"create"}, strings.Fields(args)...)...)
		require.Zero(t, code, stderr)
	}
	pack(t, filepath.Join(dir, "bad.zip"), "inner.zip", "PK\x03\x04 no more", "z.log", "4", "note.log.gz", tree(t, dir)["note.log.gz"])
	holds := func(name string) string {
		stdout, stderr, code := run(t, dir, "inspect", name, "--nested", "--as", "names")
		require.Zero(t, code, stderr)
		return strings.Join(strings.Fields(stdout), " ")
	}
	for _, c := range []struct{ args, says, holds string }{
		{"--remove *.log --dry-run", "3 to remove, 3 as before", "z.log y.log a.csv x.log"},
		{"--nested-depth 1 --remove x.log", "nothing changes", "z.log y.log a.csv x.log"},
		{"--nested-depth 2 --remove x.log --read-back", "1 removed", "z.log y.log a.csv"},
		{"--archives inner.* --text n.txt=1", "1 added", "z.log y.log a.csv n.txt"},
		{"--archives inner.* --text n.txt=1", "nothing changes", "z.log y.log a.csv n.txt"},
		{"--move a.csv=b/a.csv --archives inner.*", "1 moved", "z.log y.log b/a.csv n.txt"},
		{"--remove *.log --method store", "removed", "b/a.csv n.txt"},
	} {
		for _, name := range []string{"outer.tar", "outer.tar.gz", "outer.zip"} {
			args := strings.Fields(c.args)
			if i := slices.Index(args, "--method"); i >= 0 && name != "outer.zip" {
				args = args[:i]
			}
			stdout, stderr, code := run(t, dir, append([]string{"edit", name, "--nested"}, args...)...)
			require.Zero(t, code, "%s %s: %s", name, c.args, stderr)
			if name != "outer.zip" { // which has it twice
				assert.Contains(t, stdout, c.says, "%s %s", name, c.args)
				assert.Equal(t, c.holds, holds(name), "%s %s", name, c.args)
			}
			_, stderr, code = run(t, dir, "verify", name, "--nested")
			assert.Zero(t, code, stderr)
		}
	}
	before := tree(t, dir)
	_, stderr, code := run(t, dir, "edit", "bad.zip", "--nested", "--text", "n=1")
	assert.Equal(t, 7, code, stderr)
	assert.Contains(t, stderr, "bad.zip › inner.zip")
	assert.Equal(t, before, tree(t, dir))
}

// tideTable is some text that hardly becomes smaller when it is stored.
func tideTable() string {
	var b strings.Builder
	for line := range 200 {
		fmt.Fprintf(&b, "12:%02d,%d\n", line%60, 2600+line*line%977)
	}
	return b.String()
}

// Ways to pack stand side by side, in a table, for scripts and in a chart.
func TestWeighWays(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "weigh", "bundles", "--try", "zip:store,tar.xz", "--chart", "ways.png")
	require.Equal(t, 0, code, stderr)
	lines := strings.Split(strings.TrimSpace(stdout), "\n")
	require.Len(t, lines, 5)
	assert.Contains(t, lines[1], "fastest")
	assert.Contains(t, lines[2], "smallest")
	assert.Contains(t, lines[3], "What is in 5 archives was weighed")
	assert.Contains(t, lines[4], "All of 60 files")
	stdout, stderr, code = run(t, dir, "weigh", "bundles", "--try", "zip", "--as-files")
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "All of 5 files")
	stdout, stderr, code = run(t, dir, "weigh", "readings", "locked", "instruments", "--ext", "csv", "--try", "zip,tar.gz", "--as", "json")
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, `"archives":72,"closed":2,`, "one is damaged, and one is locked")
	data, err := os.ReadFile(filepath.Join(dir, "ways.png"))
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Greater(t, picture.Bounds().Dx(), 500)

	stdout, stderr, code = run(t, dir, "weigh", "bundles", "--try", "tar.gz,tar.zst", "--sample", "100k", "--chart", "ways.svg", "--as", "json")
	require.Equal(t, 0, code, stderr)
	assert.Equal(t, 2, strings.Count(stdout, `"kind":"way"`))
	assert.Contains(t, stdout, `"files":60`)
	assert.Contains(t, stderr, "estimates for everything")
	data, err = os.ReadFile(filepath.Join(dir, "ways.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(data), "<svg")
	stdout, _, code = run(t, dir, "weigh", "bundles", "--try", "zip:store,tar.xz", "--as", "names", "-q")
	assert.Equal(t, 0, code)
	assert.Equal(t, "tar.xz\nzip:store\n", stdout)
	for _, args := range []string{"bundles --try zip:x", "bundles --try gz", "bundles --chart x.pdf", "bundles --sample 0", "bundles --workers 0"} {
		_, _, code := run(t, dir, append([]string{"weigh"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, code, args)
	}
}
