package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
	"widecrate/demo"
)

func TestExtractMany(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "extract", "readings", "--into", "landing", "--ext", "csv", "--drop", "__MACOSX")
	assert.Equal(t, 7, code, "one archive is damaged")
	assert.Contains(t, stderr, filepath.FromSlash(demo.Damaged)+" › levels.csv: its data")
	assert.Contains(t, stdout, filepath.Join(dir, "landing"))
	assert.Contains(t, stdout, "59 archives unpacked: 59 files")
	assert.Contains(t, stdout, "225 left out (213 other extension, 12 dropped)")
	landing := tree(t, filepath.Join(dir, "landing"))
	assert.Len(t, landing, 2*59, "59 folders, a file in each")
	assert.Contains(t, landing, "gull-ness-2026-05-12/levels.csv")
	assert.NotContains(t, landing, "merrin-deep-2026-05-07/")

	stdout, _, code = run(t, dir, "extract", "readings", "--into", "landing", "--ext", "csv", "--drop", "__MACOSX")
	assert.Equal(t, 7, code)
	assert.Contains(t, stdout, "0 files, 0 B written, 59 already there", "a second run changes nothing")
}

func TestExtractBesideAndLiteralNames(t *testing.T) {
	dir := tidewatch(t)
	_, _, code := run(t, dir, "extract", "corrections/osk bay [v1].zip", "readings/osk-bay-2026-05-01.zip", "--entry", "notes [draft].txt", "--pick", "charts")
	require.Equal(t, 0, code)
	assert.FileExists(t, filepath.Join(dir, "corrections/osk bay [v1]/notes [draft].txt"))
	assert.FileExists(t, filepath.Join(dir, "readings/osk-bay-2026-05-01/charts/osk-bay-2026-05-01.png"))
	assert.NoFileExists(t, filepath.Join(dir, "readings/osk-bay-2026-05-01/levels.csv"))
}

func TestMachineOutput(t *testing.T) {
	dir := tidewatch(t)
	one := "readings/gull-ness-2026-05-01.zip"
	names, _, code := run(t, dir, "extract", one, "--into", "a", "--ext", "csv,json", "--drop", "__MACOSX", "--as", "names")
	require.Equal(t, 0, code)
	into := filepath.Join(dir, "a", "gull-ness-2026-05-01")
	assert.Equal(t, filepath.Join(into, "levels.csv")+"\n"+filepath.Join(into, "calibration.json")+"\n", names)

	lines, _, code := run(t, dir, "extract", one, demo.Damaged, "--into", "b", "--ext", "csv", "--drop", "__MACOSX", "--as", "json")
	require.Equal(t, 7, code)
	var got []map[string]any
	for line := range strings.Lines(lines) {
		var v map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &v))
		delete(v, "seconds")
		got = append(got, v)
	}
	size := float64(len(tree(t, filepath.Join(dir, "b"))["gull-ness-2026-05-01/levels.csv"]))
	failure := got[2]["failure"].(map[string]any)
	assert.Equal(t, map[string]any{"kind": "written", "archive": one, "entry": "levels.csv", "type": "file", "size": size, "action": "added", "summed": true,
		"path": filepath.Join(dir, "b", "gull-ness-2026-05-01", "levels.csv")}, got[0])
	assert.Equal(t, map[string]any{"kind": "archive", "archive": one, "into": filepath.Join(dir, "b", "gull-ness-2026-05-01"),
		"entries": 6.0, "bytes": size, "left_out": map[string]any{"other_extension": 4.0, "dropped": 1.0}}, got[1])
	assert.Equal(t, []any{"damaged", 7.0}, []any{failure["kind"], failure["code"]})
	assert.Len(t, got, 4)
	assert.Equal(t, []any{"totals", 1.0, 1.0}, []any{got[3]["kind"], got[3]["archives"], got[3]["failed"]})

	names, _, code = run(t, dir, "inspect", one, "--as", "names")
	require.Equal(t, 0, code)
	assert.Equal(t, "levels.csv\ncalibration.json\ngauge.log\ncharts/\ncharts/gull-ness-2026-05-01.png\n.DS_Store\n__MACOSX/._levels.csv\n", names)
	lines, _, code = run(t, dir, "inspect", one, "--entry", "levels.csv", "--as", "json")
	require.Equal(t, 0, code)
	entry, archive, _ := strings.Cut(lines, "\n")
	assert.Regexp(t, `^{"kind":"entry","archive":"readings/gull-ness-2026-05-01.zip","path":"levels.csv","type":"file","size":\d+,"packed":\d+,`+
		`"modified":"2026-05-02T00:05:00.*","mode":"0644","method":"deflate","crc32":"[0-9a-f]{8}","encrypted":false}$`, entry)
	assert.Regexp(t, `^{"kind":"archive",.*"files":1,"size":\d+,"packed":\d+,"left_out":{"not_picked":5}}\n{"kind":"totals",.*}\n$`, archive)
	table, _, code := run(t, dir, "inspect", "readings", "-v")
	assert.Equal(t, 0, code, "a damaged entry is no matter for its directory")
	assert.Contains(t, table, "60 archives: 288 files")
	assert.Contains(t, table, "deflate")
}

// What a dry run says is what then happens, path by path.
// Every kind of failure has its exit code, says what and where, and leaves
// nothing behind.
func TestFailures(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "good.zip"), "a", "1", "b/c", "2")
	whole, err := os.ReadFile(filepath.Join(dir, "good.zip"))
	require.NoError(t, err)
	put(t, filepath.Join(dir, "empty.zip"), "")
	put(t, filepath.Join(dir, "text.zip"), "these are not the bytes of an archive")
	put(t, filepath.Join(dir, "cut.zip"), string(whole[:len(whole)-30]))
	put(t, filepath.Join(dir, "crc.zip"), strings.Replace(string(whole), "1", "7", 1))
	for name, path := range map[string]string{"up": "x/../../up", "absolute": "/tmp/up", "drive": `C:\up`, "zero": "a\x00b"} {
		pack(t, filepath.Join(dir, name+".zip"), "a", "1", path, "2")
	}
	pack(t, filepath.Join(dir, "twice.zip"), "a", "1", "a", "2")
	pack(t, filepath.Join(dir, "both.zip"), "a", "1", "a/b", "2")
	if systemtest.HasLinks(t) {
		require.NoError(t, os.Symlink("loop.zip", filepath.Join(dir, "loop.zip")))
	}
	put(t, filepath.Join(dir, "none/readme.txt"), "no archive here")
	before := tree(t, filepath.Join(dir, "none"))
	for _, c := range []struct {
		code int
		says string // on standard error
		args []string
	}{
		{0, "", []string{"extract", "none"}},
		{2, "there is no option --extt; the nearest is --ext", []string{"extract", "good.zip", "--extt", "csv"}},
		{2, "it must be one of own, shared, auto", []string{"extract", "good.zip", "--layout", "flat"}},
		{2, "malformed", []string{"extract", "good.zip", "--pick", "[a"}},
		{2, "no source is named", []string{"extract"}},
		{2, `there is no command "unpack"`, []string{"unpack"}},
		{2, "--workers 0: it must be a number, at least 1", []string{"extract", "good.zip", "--workers", "0"}},
		{3, `entry "a" and entry "a" both go to`, []string{"extract", "twice.zip"}},
		{3, `entry "a" would have to be a folder for entry "a/b"`, []string{"extract", "both.zip"}},
		{6, "nothing was kept: 2 left out (other extension)", []string{"extract", "good.zip", "--ext", "csv"}},
		{6, `no entry has the path "A"`, []string{"inspect", "good.zip", "--entry", "A"}},
		{6, `the nearest to "b/d" is "b/c"`, []string{"extract", "good.zip", "--into", "x", "--entry", "b/d"}},
		{7, "it is empty", []string{"extract", "empty.zip"}},
		{7, "it is not an archive that widecrate reads", []string{"extract", "text.zip"}},
		{7, "it has no end record", []string{"inspect", "cut.zip"}},
		{7, "crc.zip › a: its data has CRC-32", []string{"extract", "crc.zip"}},
		{8, "missing.zip: there is no such file", []string{"extract", "missing.zip"}},
		{8, "use --archives PATTERN", []string{"extract", "*.zip"}},
		{8, "list.txt", []string{"extract", "--source-list", "list.txt"}},
		{2, "unknown placeholder {x}", []string{"extract", "good.zip", "--rename", "{x}"}},
		{2, "--fresh and --layout shared do not go together", []string{"extract", "good.zip", "--fresh", "--layout", "shared"}},
		{2, "--into - and --dry-run do not go together", []string{"extract", "good.zip", "--into", "-", "--dry-run"}},
		{2, "it must be a size", []string{"extract", "good.zip", "--min-size", "many"}},
		{2, "or an age such as", []string{"extract", "good.zip", "--since", "noon"}},
		{2, "it must be keep, remove or move=DIR", []string{"extract", "good.zip", "--after", "burn"}},
		{2, "it must be one of", []string{"inspect", "good.zip", "--sort", "colour"}},
		{9, "it unpacks to more than 1 B", []string{"extract", "good.zip", "--max-total", "1"}},
		{9, "it holds more entries than 1", []string{"inspect", "good.zip", "--max-entries", "1"}},
		{8, "loop.zip", []string{"inspect", "loop.zip"}},
		{9, "leads out of its folder", []string{"extract", "up.zip"}},
		{9, "is absolute", []string{"extract", "absolute.zip"}},
		{9, "drive letter", []string{"extract", "drive.zip"}},
		{9, "NUL byte", []string{"extract", "zero.zip"}},
		{10, "it is a file, and a folder is needed there", []string{"extract", "good.zip", "--into", "text.zip/sub"}},
		{1, "missing.zip", []string{"extract", "missing.zip", "up.zip"}},
		{8, "mising: ", []string{"create", "new.zip", "none", "mising"}},
		{3, "it exists already", []string{"create", "good.zip", "none"}},
		{10, "text.zip", []string{"create", "text.zip/new.zip", "none"}},
		{2, "its extension is not one of a format", []string{"create", "new.xyz", "none"}},
	} {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			if runtime.GOOS == "windows" && slices.Contains(c.args, "*.zip") {
				t.Skip("it is a pattern there")
			}
			untouched := tree(t, filepath.Join(dir, "good")) // made by no failing call
			_, stderr, code := run(t, dir, c.args...)
			assert.Equal(t, c.code, code, stderr)
			assert.Contains(t, stderr, c.says)
			assert.Equal(t, untouched, tree(t, filepath.Join(dir, "good")))
		})
	}
	assert.Equal(t, before, tree(t, filepath.Join(dir, "none")))
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, path := range left {
		info, err := os.Lstat(path)
		require.NoError(t, err)
		assert.True(t, !info.IsDir() || filepath.Base(path) == "none", "%s was left behind", path)
	}
	hidden, err := filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	assert.Empty(t, hidden)
	assert.NoFileExists(t, filepath.Join(filepath.Dir(dir), "up"))
}

// startLarge starts to extract a large archive, and returns when its folder is
// staged.
func startLarge(t *testing.T, dir string) *exec.Cmd {
	t.Helper()
	if _, err := os.Stat(filepath.Join(dir, "large.zip")); err != nil {
		pack(t, filepath.Join(dir, "large.zip"), "a", strings.Repeat("0123456789", 40_000_000))
	}
	staged := func() int {
		files, _ := filepath.Glob(filepath.Join(dir, "out", ".widecrate-*", "1"))
		return len(files)
	}
	before := staged()
	cmd := exec.Command(program, "extract", "large.zip", "--into", "out")
	cmd.Dir = dir
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return staged() > before }, 10*time.Second, time.Millisecond)
	return cmd
}

// An interrupt ends the run and leaves the destination as it was.
func TestInterrupt(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "out/mine.txt"), "mine")
	before := tree(t, filepath.Join(dir, "out"))
	cmd := startLarge(t, dir)
	interrupt(t, cmd.Process)
	require.Error(t, cmd.Wait())
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.Equal(t, before, tree(t, filepath.Join(dir, "out")))
}

// Where nobody reads the output any more, the run ends there: without a word, and without
// anything that is not complete.
func TestOutputClosed(t *testing.T) {
	dir := t.TempDir()
	const archives = 1500
	for i := range archives {
		pack(t, filepath.Join(dir, fmt.Sprintf("in/day-%04d.zip", i)), "levels.csv", "1")
	}
	cmd := exec.Command(program, "extract", "in", "--into", "out", "-v")
	cmd.Dir = dir
	var stderr strings.Builder
	cmd.Stderr = &stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	require.NoError(t, out.Close())
	require.Error(t, cmd.Wait())
	assert.Equal(t, 141, cmd.ProcessState.ExitCode())
	assert.Regexp(t, `^(the kernel lets this run .*\n)?$`, stderr.String())
	delivered := 0
	for path, data := range tree(t, filepath.Join(dir, "out")) {
		require.NotContains(t, path, ".widecrate")
		if !strings.HasSuffix(path, "/") {
			require.Equal(t, "1", data)
			delivered++
		}
	}
	assert.Greater(t, delivered, 0)
	assert.Less(t, delivered, archives)
}

// What a killed run leaves is cleared away by the next one to the same place,
// and what a run that still lives has staged is not.
func TestKilledAndLiveRuns(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "small.zip"), "x", "1")
	live := startLarge(t, dir)
	hold(t, live.Process)
	defer func() { live.Process.Kill(); live.Wait() }()
	_, stderr, code := run(t, dir, "extract", "small.zip", "--into", "out")
	require.Equal(t, 0, code, stderr)
	assert.NotContains(t, stderr, "cleared away")
	areas, err := filepath.Glob(filepath.Join(dir, "out", ".widecrate-*"))
	require.NoError(t, err)
	assert.Len(t, areas, 1)

	require.NoError(t, live.Process.Kill())
	require.Error(t, live.Wait())
	_, stderr, code = run(t, dir, "extract", "small.zip", "--into", "out")
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stderr, "cleared away what a run that was killed had left")
	assert.Equal(t, map[string]string{"small/": "", "small/x": "1"}, tree(t, filepath.Join(dir, "out")))
}

// A disk that fills up is a clear error, and nothing incomplete stays.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "large.zip"), "a", strings.Repeat("0123456789", 1_000_000))
	put(t, filepath.Join(dir, "disk/mine.txt"), "mine")
	disk := filepath.Join(dir, "disk")
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", disk).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be made here: %s", out)
	}
	defer exec.Command("umount", disk).Run()
	_, stderr, code := run(t, dir, "extract", "large.zip", "--into", "disk")
	assert.Equal(t, 10, code)
	assert.Contains(t, stderr, "9.5 MiB are needed there")
	assert.Empty(t, tree(t, disk))
	for _, name := range []string{"one", "two", "three"} { // each alone has room
		pack(t, filepath.Join(dir, name+".zip"), "x/"+name, noise(1_900_000))
	}
	_, stderr, code = run(t, dir, "extract", "one.zip", "two.zip", "three.zip", "--into", "disk", "--workers", "3")
	assert.Equal(t, 10, code, stderr)
	assert.LessOrEqual(t, len(tree(t, disk)), 3, "one archive at most, and nothing incomplete")
	require.NoError(t, exec.Command("find", disk, "-mindepth", "1", "-delete").Run())
	put(t, filepath.Join(dir, "noise"), noise(4<<20))
	_, stderr, code = run(t, dir, "create", "disk/x.zip", "noise")
	assert.Equal(t, 10, code)
	assert.Contains(t, stderr, "no space left on device")
	assert.Empty(t, tree(t, disk))
}
