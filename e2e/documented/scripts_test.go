package documented

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// paths lists what a call makes: files below dir that were not there before.
func paths(t *testing.T, dir string, args ...string) []string {
	t.Helper()
	before := tree(t, dir)
	_, stderr, code := run(t, dir, args...)
	require.Equal(t, 0, code, stderr)
	var made []string
	for path := range tree(t, dir) {
		if _, old := before[path]; !old && !strings.HasSuffix(path, "/") {
			made = append(made, path)
		}
	}
	slices.Sort(made)
	return made
}

// utf16File is what some systems save a list as.
func utf16File(text string, mark bool) string {
	units := utf16.Encode([]rune(text))
	if mark {
		units = append([]uint16{0xfeff}, units...)
	}
	var b strings.Builder
	for _, u := range units {
		b.WriteByte(byte(u))
		b.WriteByte(byte(u >> 8))
	}
	return b.String()
}

// sample makes a folder with archives in several places.
func sample(t *testing.T) string {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "in/a.zip"), "top/x.csv", "1", "top/sub/y.log", "22")
	pack(t, filepath.Join(dir, "in/deep/[b] 1.zip"), "x.csv", "3", "._x.csv", "clutter")
	pack(t, filepath.Join(dir, "in/table.sheet"), "cells", "4")
	pack(t, filepath.Join(dir, "in/küste.zip"), "k", "5")
	inner, err := os.ReadFile(filepath.Join(dir, "in/a.zip"))
	require.NoError(t, err)
	pack(t, filepath.Join(dir, "outer/o.zip"), "1.x", "6", "in.zip", string(inner), "z.z", "7")
	put(t, filepath.Join(dir, "lf.txt"), "in/a.zip\n\nin/küste.zip\n")
	put(t, filepath.Join(dir, "crlf.txt"), "\ufeffin/a.zip\r\nin/küste.zip")
	put(t, filepath.Join(dir, "utf16.txt"), utf16File("in/a.zip\r\nin/küste.zip\r\n", true))
	put(t, filepath.Join(dir, "bare16.txt"), utf16File("in/a.zip\nin/küste.zip", false))
	put(t, filepath.Join(dir, "null.txt"), "in/a.zip\x00in/küste.zip\x00")
	put(t, filepath.Join(dir, "entries.txt"), "top/x.csv\nk\n")
	put(t, filepath.Join(dir, "pairs.txt"), "in/a.zip\tone\r\nin/küste.zip\ttwo/three\r\n")
	return dir
}

func TestSourcesAndPlacement(t *testing.T) {
	both := []string{"out/a/top/sub/y.log", "out/a/top/x.csv", "out/küste/k"}
	for name, c := range map[string]struct {
		args []string
		want []string
	}{
		"folder":             {[]string{"in", "--into", "out"}, both},
		"list":               {[]string{"--source-list", "lf.txt", "--into", "out"}, both},
		"list from Windows":  {[]string{"--source-list", "crlf.txt", "--into", "out"}, both},
		"UTF-16":             {[]string{"--source-list", "utf16.txt", "--into", "out"}, both},
		"UTF-16, no mark":    {[]string{"--source-list", "bare16.txt", "--into", "out"}, both},
		"NUL":                {[]string{"--source-list", "null.txt", "--null-in", "--into", "out"}, both},
		"pairs":              {[]string{"--pairs", "pairs.txt"}, []string{"one/a/top/sub/y.log", "one/a/top/x.csv", "two/three/küste/k"}},
		"recursive":          {[]string{"in", "--recursive", "--into", "out", "--ext", "csv", "--no-clutter"}, []string{"out/a/top/x.csv", "out/deep/[b] 1/x.csv"}},
		"recursive, beside":  {[]string{"in", "--recursive", "--ext", "csv", "--no-clutter"}, []string{"in/a/top/x.csv", "in/deep/[b] 1/x.csv"}},
		"other extension":    {[]string{"in", "--archives", "*.sheet", "--into", "out", "--entry", "cells"}, []string{"out/table/cells"}},
		"named, by content":  {[]string{"in/table.sheet", "--into", "out"}, []string{"out/table/cells"}},
		"named twice":        {[]string{"in/küste.zip", "in", "--entry-list", "entries.txt", "--into", "out"}, []string{"out/a/top/x.csv", "out/küste/k"}},
		"shared":             {[]string{"in", "--into", "out", "--layout", "shared"}, []string{"out/k", "out/top/sub/y.log", "out/top/x.csv"}},
		"auto":               {[]string{"in", "--into", "out", "--layout", "auto"}, []string{"out/küste/k", "out/top/sub/y.log", "out/top/x.csv"}},
		"own name":           {[]string{"in", "--recursive", "--into", "out", "--own-name", "{from}_{stem}", "--ext", "csv"}, []string{"out/deep/deep_[b] 1/._x.csv", "out/deep/deep_[b] 1/x.csv", "out/in_a/top/x.csv"}},
		"flatten":            {[]string{"in/a.zip", "--into", "out", "--flatten"}, []string{"out/a/x.csv", "out/a/y.log"}},
		"peel":               {[]string{"in", "--into", "out", "--peel", "1"}, []string{"out/a/sub/y.log", "out/a/x.csv"}},
		"rename over shared": {[]string{"in", "--into", "out", "--layout", "shared", "--flatten", "--rename", "{nn}-{archive}{ext}"}, []string{"out/01-a.log", "out/02-a.csv", "out/03-küste"}},
		"no gap":             {[]string{"in/a.zip", "outer/o.zip", "--nested", "--into", "out", "--layout", "shared", "--flatten", "--rename", "{n}-{from}-{folder}{ext}"}, []string{"out/1-in-sub.log", "out/2-in-top.csv", "out/3-outer-o.x", "out/4-outer-o.z", "out/5-o-sub.log", "out/6-o-top.csv"}},
		"smaller":            {[]string{"in", "--into", "out", "--max-size", "1"}, []string{"out/a/top/x.csv", "out/küste/k"}},
		"staging elsewhere":  {[]string{"in/a.zip", "--into", "out", "--staging", "work", "--ext", "csv"}, []string{"out/a/top/x.csv"}},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, paths(t, sample(t), append([]string{"extract"}, c.args...)...))
		})
	}
}

func TestDataToStandardOutput(t *testing.T) {
	dir := sample(t)
	stdout, stderr, code := run(t, dir, "extract", "in", "--recursive", "--into", "-", "--ext", "csv", "--no-clutter")
	assert.Equal(t, 0, code)
	assert.Equal(t, "13", stdout)
	assert.Contains(t, stderr, "3 archives unpacked: 2 files")
	assert.NotContains(t, tree(t, dir), "-/")
}

func TestSelfMadeForms(t *testing.T) {
	dir := sample(t)
	names, _, _ := run(t, dir, "inspect", "in/a.zip", "--as", "names", "--null-out", "--sort", "size")
	assert.Equal(t, "top/sub/y.log\x00top/x.csv\x00", names)
	text, _, _ := run(t, dir, "inspect", "in", "--recursive", "--as", "csv")
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 6)
	assert.Equal(t, []string{"archive", "path", "type", "size"}, rows[0][:4])
	assert.Equal(t, []string{filepath.FromSlash("in/a.zip"), "top/x.csv", "file", "1"}, rows[1][:4])
	text, _, _ = run(t, dir, "inspect", "in/a.zip", "--as", "tree")
	assert.Contains(t, text, "  top/  2 files, 3 B\n    sub/  1 file, 2 B\n      y.log  2 B\n    x.csv  1 B\n")
	text, _, _ = run(t, dir, "inspect", "in", "--totals")
	assert.Contains(t, text, "2 archives: 3 files, 4 B")
	_, stderr, code := run(t, dir, "inspect", "in", "--ext", "csv", "--pick", "nowhere*", "--pick", "x*")
	assert.Equal(t, 0, code)
	assert.Contains(t, stderr, "nothing matched nowhere*")
	lines, _, code := run(t, dir, "extract", "in/a.zip", "--into", "out", "--as", "names", "--null-out")
	assert.Equal(t, 0, code)
	assert.Equal(t, filepath.Join(dir, "out/a/top/x.csv")+"\x00"+filepath.Join(dir, "out/a/top/sub/y.log")+"\x00", lines)
}

func TestNested(t *testing.T) {
	dir := t.TempDir()
	build := func(name string, pairs ...string) string {
		pack(t, filepath.Join(dir, "parts", name), pairs...)
		data, err := os.ReadFile(filepath.Join(dir, "parts", name))
		require.NoError(t, err)
		return string(data)
	}
	inner := build("i.zip", "x.csv", "inner", "y.log", "log")
	middle := build("m.zip", "i.zip", inner, "x.csv", "middle")
	large := build("l.zip", "noise", noise(17<<20))
	build("outer.zip", "days/i.zip", inner, "days/m.zip", middle, "loose.csv", "outer", "days/sheet.xyz", inner)
	build("broken.zip", "a.zip", strings.Replace(inner, "inner", "INNER", 1), "m.zip", middle, "x.csv", "fine")
	build("big.zip", "l.zip", large)
	assert.Equal(t, []string{"out/outer/days/i/x.csv", "out/outer/days/m/i/x.csv", "out/outer/days/m/x.csv", "out/outer/loose.csv"},
		paths(t, dir, "extract", "parts/outer.zip", "--nested", "--into", "out", "--ext", "csv"))
	assert.Equal(t, []string{"flat/x-2.csv", "flat/x.csv"},
		paths(t, dir, "extract", "parts/outer.zip", "--nested", "--into", "flat", "--layout", "shared", "--flatten", "--pick", "x.csv", "--clash", "number"))
	assert.Equal(t, []string{"one/outer/days/m/i.zip"},
		paths(t, dir, "extract", "parts/outer.zip", "--nested", "--nested-depth", "1", "--into", "one", "--entry", "i.zip"))
	assert.Equal(t, []string{"big/big/l/noise"}, paths(t, dir, "extract", "parts/big.zip", "--nested", "--into", "big"))

	_, stderr, code := run(t, dir, "extract", "parts/broken.zip", "--nested", "--into", "broken")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, "parts/broken.zip › a.zip › x.csv: its data has CRC-32")
	found := tree(t, filepath.Join(dir, "broken"))
	assert.Contains(t, found, "broken/x.csv")
	assert.Contains(t, found, "broken/m/i/x.csv")
	assert.NotContains(t, found, "broken/a/")

	names, _, code := run(t, dir, "inspect", "parts/outer.zip", "--nested", "--as", "json", "--ext", "csv")
	assert.Equal(t, 0, code)
	assert.Contains(t, names, `"archive":"parts/outer.zip › days/m.zip › i.zip","path":"x.csv"`)
}

func TestAfter(t *testing.T) {
	for name, c := range map[string]struct {
		args    []string
		removed bool
		says    string
	}{
		"delivered":          {[]string{"in/a.zip", "--after", "remove"}, true, "1 archive removed"},
		"moved":              {[]string{"in/a.zip", "--after", "move=done/x"}, true, "/done/x\n"},
		"moved by parent":    {[]string{"in/a.zip", "--after", "move=done/{from}"}, true, "/done/in\n"},
		"left out":           {[]string{"in/a.zip", "--after", "remove", "--ext", "csv"}, false, "kept in/a.zip: it was unpacked in part (1 other extension)"},
		"even if partial":    {[]string{"in/a.zip", "--after", "remove", "--ext", "csv", "--even-if-partial"}, true, "1 archive removed"},
		"only clutter":       {[]string{"in/deep/[b] 1.zip", "--after", "remove", "--no-clutter"}, true, "removed"},
		"dry run":            {[]string{"in/a.zip", "--after", "remove", "--dry-run"}, false, "1 archive would be removed"},
		"skipped by a clash": {[]string{"in/a.zip", "--after", "remove", "--into", "taken", "--clash", "skip"}, false, "1 skipped"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := sample(t)
			put(t, filepath.Join(dir, "taken/a/top/x.csv"), "mine")
			stdout, stderr, code := run(t, dir, append([]string{"extract"}, c.args...)...)
			assert.Equal(t, 0, code, stderr)
			assert.Contains(t, filepath.ToSlash(stdout), c.says)
			_, err := os.Stat(filepath.Join(dir, c.args[0]))
			assert.Equal(t, c.removed, os.IsNotExist(err))
			if name == "moved" {
				assert.FileExists(t, filepath.Join(dir, "done/x/a.zip"))
			}
		})
	}
	dir := sample(t)
	put(t, filepath.Join(dir, "done/a.zip"), "somebody else's")
	_, stderr, code := run(t, dir, "extract", "in/a.zip", "--after", "move=done")
	assert.Equal(t, 0, code, stderr)
	assert.FileExists(t, filepath.Join(dir, "done/a-2.zip"))
	theirs, err := os.ReadFile(filepath.Join(dir, "done/a.zip"))
	require.NoError(t, err)
	assert.Equal(t, "somebody else's", string(theirs))
}

func TestFreshHaltAndLinks(t *testing.T) {
	dir := sample(t)
	put(t, filepath.Join(dir, "out/a/yesterday.csv"), "old")
	assert.Equal(t, []string{"out/a/top/sub/y.log", "out/a/top/x.csv"}, paths(t, dir, "extract", "in/a.zip", "--into", "out", "--fresh"))
	assert.NotContains(t, tree(t, dir), "out/a/yesterday.csv")
	before := tree(t, filepath.Join(dir, "out"))
	whole, err := os.ReadFile(filepath.Join(dir, "in/a.zip"))
	require.NoError(t, err)
	put(t, filepath.Join(dir, "bad/a.zip"), strings.Replace(string(whole), "22", "33", 1))
	_, _, code := run(t, dir, "extract", "bad/a.zip", "--into", "out", "--fresh")
	assert.Equal(t, 7, code)
	assert.Equal(t, before, tree(t, filepath.Join(dir, "out")), "the old one stays until the new one is complete")

	_, stderr, code := run(t, dir, "extract", "bad/a.zip", "in/küste.zip", "--into", "halted", "--halt", "--workers", "1")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, "1 archive was not taken")
	assert.NoFileExists(t, filepath.Join(dir, "halted/küste/k"))

	systemtest.NeedsLinks(t)
	require.NoError(t, os.Symlink("x.csv", filepath.Join(dir, "link")))
	put(t, filepath.Join(dir, "x.csv"), "1")
	_, stderr, code = run(t, dir, "create", "once.zip", "x.csv", ".", "--pick", "x.csv", "--top", "drop", "--drop", "in", "--drop", "out")
	assert.Equal(t, 0, code, stderr, "a file that is named twice is packed once")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "with"), 0o777))
	require.NoError(t, os.Symlink("x.csv", filepath.Join(dir, "with/link")))
	put(t, filepath.Join(dir, "with/x.csv"), "1")
	_, stderr, code = run(t, dir, "create", "l.zip", "with", "--top", "drop")
	require.Equal(t, 0, code, stderr)
	for rule, want := range map[string]int{"keep": 0, "skip": 0, "refuse": 3} {
		_, _, code := run(t, dir, "extract", "l.zip", "--into", "links-"+rule, "--links", rule)
		assert.Equal(t, want, code, rule)
		target, err := os.Readlink(filepath.Join(dir, "links-"+rule, "l/link"))
		assert.Equal(t, rule == "keep", err == nil && target == "x.csv", rule)
	}
}

// A script that reads JSON learns of a source that is missing from every command.
func TestMissingSourceIsALine(t *testing.T) {
	dir := t.TempDir()
	for _, args := range []string{
		"extract gone", "inspect gone", "verify gone", "convert gone --to zip --into x", "compare gone gone", "create x.zip gone",
		"create {stem}.zip gone --each", "weigh gone", "edit gone.zip --remove x", "parts scan gone", "parts join gone.001", "parts split gone --part-size 1k",
	} {
		stdout, stderr, code := run(t, dir, append(strings.Fields(args), "--as", "json")...)
		assert.Equal(t, 8, code, "%s: %s", args, stderr)
		var line struct{ Failure *struct{ Code int } }
		first, _, _ := strings.Cut(stdout, "\n")
		require.NoError(t, json.Unmarshal([]byte(first), &line), "%s: %s", args, stdout)
		require.NotNil(t, line.Failure, args)
		assert.Equal(t, 8, line.Failure.Code, args)
	}
}

// A destination that stands where sources do is reported before anything is written.
func TestForgottenInto(t *testing.T) {
	dir := sample(t)
	put(t, filepath.Join(dir, "landing/notes.txt"), "mine")
	_, stderr, code := run(t, dir, "extract", "in/a.zip", "landing", "--halt", "--clash", "skip")
	assert.Equal(t, 0, code, stderr)
	assert.True(t, strings.HasPrefix(stderr, "! no archive in landing; where archives are to go is said with --into landing"), stderr)
	_, stderr, code = run(t, dir, "extract", "in/a.zip", "gone.zip", "--halt", "--into", "never")
	assert.Equal(t, 8, code, stderr)
	assert.NoDirExists(t, filepath.Join(dir, "never"), "what is missing is known before anything is written")
}

// What is selected of many archives is found in one table, or the archives themselves are
// listed for the next command.
func TestFinding(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "inspect", "readings", "--pick", "charts/*05-11*", "--workers", "2")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "readings/osk-bay-2026-05-11.zip       charts/osk-bay-2026-05-11.png ")
	assert.Contains(t, stdout, "5 of 60 archives: 5 files")
	assert.NotContains(t, stdout, "05-12.png")
	stdout, _, _ = run(t, dir, "inspect", "bundles", "--nested", "--pick", "charts/*05-11*", "--as", "tree")
	assert.Equal(t, 5, strings.Count(stdout, "05-11.zip"), stdout)
	put(t, filepath.Join(dir, "picks"), "charts/*05-11*\n")
	stdout, stderr, code = run(t, dir, "inspect", "readings", "--pick-list", "picks", "--as", "archives")
	assert.Equal(t, 0, code, stderr)
	assert.Equal(t, 5, strings.Count(stdout, "05-11.zip\n"), stdout)
	put(t, filepath.Join(dir, "found"), stdout)
	_, stderr, code = run(t, dir, "extract", "--source-list", "found", "--into", "out", "--pick-list", "picks", "--receipt", "r", "--skip-done")
	assert.Equal(t, 0, code, stderr)
	put(t, filepath.Join(dir, "picks"), "charts/*05-11*\nlevels.csv\n")
	stdout, stderr, code = run(t, dir, "extract", "--source-list", "found", "--into", "out", "--pick-list", "picks", "--receipt", "r", "--skip-done")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "5 archives unpacked: 5 files", "another list is another choice")
}

// Archives that failed are moved out of the way, with the reason; what is fine, and what failed
// for a reason of the disk, stays.
func TestFailedAreMoved(t *testing.T) {
	dir := tidewatch(t)
	for _, name := range []string{"readings/merrin-deep-2026-05-07.zip", "readings/osk-bay-2026-05-01.zip", "locked/gauges.zip", "survey/currents.tar.gz.001", "survey/currents.tar.gz.003"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		put(t, filepath.Join(dir, "in", filepath.Base(name)), string(data))
	}
	extract := []string{"extract", "in", "--recursive", "--into", "out", "--failed", "move=in/failed"}
	before := tree(t, filepath.Join(dir, "in"))
	stdout, _, code := run(t, dir, append(extract, "--dry-run", "--as", "json")...)
	assert.Equal(t, 1, code)
	assert.Contains(t, stdout, `"failed":true,"dry_run":true,"to":`)
	assert.Equal(t, before, tree(t, filepath.Join(dir, "in")))

	put(t, filepath.Join(dir, "full/osk-bay-2026-05-01"), "a file where the folder is to be")
	_, _, code = run(t, dir, "extract", "in/osk-bay-2026-05-01.zip", "--into", "full", "--failed", "move=in/failed")
	assert.NotZero(t, code)
	assert.Equal(t, before, tree(t, filepath.Join(dir, "in")), "that is not the archive's fault")

	_, stderr, code := run(t, dir, append(extract, "--after", "move=done")...)
	assert.Equal(t, 1, code, stderr)
	var left []string
	for at, content := range tree(t, filepath.Join(dir, "in")) {
		if strings.HasSuffix(at, "/") {
			continue
		}
		left = append(left, at)
		if name := filepath.Base(at); !strings.HasSuffix(at, ".reason.txt") {
			assert.Equal(t, before[name], content, at)
		}
	}
	assert.ElementsMatch(t, []string{"failed/merrin-deep-2026-05-07.zip", "failed/merrin-deep-2026-05-07.zip.reason.txt", "failed/gauges.zip", "failed/gauges.zip.reason.txt",
		"failed/currents.tar.gz.001", "failed/currents.tar.gz.001.reason.txt", "failed/currents.tar.gz.003"}, left)
	reason, err := os.ReadFile(filepath.Join(dir, "in/failed/gauges.zip.reason.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(reason), "it is locked, and there is no password")
	assert.FileExists(t, filepath.Join(dir, "done/osk-bay-2026-05-01.zip"))

	put(t, filepath.Join(dir, "in/gauges.zip"), before["gauges.zip"])
	put(t, filepath.Join(dir, "in/merrin-deep-2026-05-07.zip"), "something else")
	_, stderr, code = run(t, dir, extract...)
	assert.Equal(t, 1, code, stderr)
	assert.Equal(t, "something else", tree(t, filepath.Join(dir, "in"))["failed/merrin-deep-2026-05-07-2.zip"], "another of its name")
	assert.NoFileExists(t, filepath.Join(dir, "in/failed/gauges-2.zip"), "the same is there")
	_, stderr, code = run(t, dir, extract...)
	assert.Equal(t, 0, code, stderr)

	for _, args := range []string{"verify in --recursive --failed move=in/failed", "convert in --recursive --to zip --into new --failed move=in/failed"} {
		put(t, filepath.Join(dir, "in/new/gauges.zip"), before["gauges.zip"]+"x") // another of its name
		put(t, filepath.Join(dir, "in/new/currents.tar.gz.001"), before["currents.tar.gz.001"])
		put(t, filepath.Join(dir, "in/new/right.zip"), before["osk-bay-2026-05-01.zip"])
		stdout, stderr, code := run(t, dir, strings.Fields(args)...)
		assert.Equal(t, 1, code, stderr)
		assert.Contains(t, stdout, "2 archives moved to "+filepath.Join(dir, "in/failed"), args)
		assert.Equal(t, map[string]string{"right.zip": before["osk-bay-2026-05-01.zip"]}, tree(t, filepath.Join(dir, "in/new")), args)
		_, stderr, code = run(t, dir, strings.Fields(args+" --quiet --archives right")...)
		assert.Zero(t, code, stderr)
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "in/failed/gauges-2.zip")))
	}
}
