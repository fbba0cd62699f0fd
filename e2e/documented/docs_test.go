package documented

import (
	"crypto/rand"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
	"widecrate/demo"
	"widecrate/demo/standin"
)

// examples finds the commands in a text: lines that start with the program.
func examples(text string) [][]string {
	var found [][]string
	for line := range strings.Lines(text) {
		rest, is := strings.CutPrefix(strings.TrimSpace(line), "widecrate ")
		if !is {
			continue
		}
		rest, _, _ = strings.Cut(rest, "  #")
		var args []string
		for i, part := range strings.Split(strings.ReplaceAll(rest, "'", `"`), `"`) {
			if i%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		found = append(found, args)
	}
	return found
}

// announced is the exit code that a text says its example ends with.
func announced(text string, args []string) string {
	_, rest, _ := strings.Cut(text, strings.Join(args, " ")+"  # exit code ")
	code, _, _ := strings.Cut(rest, "\n")
	return code
}

// Every example of the README, of job files, and in the help texts runs on the demo data.
func TestExamples(t *testing.T) {
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	jobs, err := os.ReadFile("../../docs/jobs.md")
	require.NoError(t, err)
	_, running, _ := strings.Cut(string(jobs), "## Running it")
	texts := map[string]string{"README": string(readme), "jobs": running}
	for _, command := range []string{"", "extract", "inspect", "verify", "compare", "create", "parts", "parts scan", "parts join", "parts split", "edit", "convert", "weigh", "run", "demo", "version"} {
		args := append(strings.Fields(command), "--help")
		stdout, _, code := run(t, ".", args...)
		require.Equal(t, 0, code)
		for line := range strings.Lines(stdout) {
			assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 80, "%s: %s", command, line)
		}
		_, after, found := strings.Cut(stdout, "Examples:")
		require.True(t, found, command)
		texts[command+" --help"], _, _ = strings.Cut(after, "\n\n")
	}
	t.Setenv("HTTP_PROXY", strings.TrimSuffix(serve(t, &standin.Server{Folder: tidewatch(t)}), "/")) // which stands for every host
	server, home := overSSH(t, "")
	t.Setenv("HOME", home)
	var demoOnce sync.Once // several texts have it, and it takes seconds
	for name, text := range texts {
		t.Run(name, func(t *testing.T) {
			if testing.Short() && name != "README" {
				t.Skip("many commands")
			}
			t.Parallel()
			dir := tidewatch(t)
			_, _, code := run(t, dir, "extract", "readings", "--into", "landing", "--pick", "calibration.json")
			require.Equal(t, 0, code)
			found := examples(text)
			assert.NotEmpty(t, found)
			for _, args := range found {
				if args[0] == "demo" {
					demoOnce.Do(func() {
						_, stderr, code := run(t, dir, "demo", t.TempDir())
						assert.Zero(t, code, stderr)
					})
					continue
				}
				for i := range args {
					args[i] = strings.ReplaceAll(args[i], sftpFolder+"/", server+strings.TrimPrefix(filepath.ToSlash(dir), "/")+"/")
				}
				_, stderr, code := run(t, dir, args...)
				endsAsAnnounced(t, text, args, code, stderr)
			}
		})
	}
}

// endsAsAnnounced checks the exit code of an example: what its text says, or else 0, but
// for what the demo data has of damage and differences.
func endsAsAnnounced(t *testing.T, text string, args []string, code int, stderr string) {
	t.Helper()
	switch {
	case announced(text, args) != "":
		assert.Equal(t, announced(text, args), strconv.Itoa(code), args)
	case slices.Contains(args, "--links") && !systemtest.HasLinks(t):
		assert.Contains(t, []int{0, 10}, code, "%q: %s", args, stderr)
	case args[0] == "compare":
		assert.Contains(t, []int{0, 1}, code, "%q: %s", args, stderr)
	default:
		assert.Contains(t, []int{0, 7}, code, "%q: %s", args, stderr)
	}
}

// Every line of a receipt is as its schema says.
func TestReceiptSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/receipt.schema.json")
	require.NoError(t, err)
	dir := tidewatch(t)
	lines := map[string]int{}
	for _, args := range [][]string{{"extract", "readings", "bundles", "survey/harbour.zip", "--into", "o", "--nested"}, {"extract", demo.Damaged, "--into", "s", "--salvage"}, {"create", "x.tar", "o"},
		{"extract", "corrections", "--into", "o", "--layout", "shared", "--clash", "skip"}, {"extract", serve(t, &standin.Server{Folder: dir, Tag: `"may"`}) + "bundles/osk-bay.zip", "--into", "w"}} {
		run(t, dir, append(args, "--receipt", "r.jsonl")...)
	}
	receipt, err := os.ReadFile(filepath.Join(dir, "r.jsonl"))
	require.NoError(t, err)
	for line := range strings.Lines(string(receipt)) {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(value), line)
		lines[value.(map[string]any)["kind"].(string)]++
	}
	assert.Equal(t, 5, lines["run"])
	assert.Greater(t, lines["unit"], 60)
	assert.Greater(t, lines["file"], 300)
	bad, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"kind":"file","run":"x","archive":"a","path":"b","type":"file","size":-1}`))
	require.NoError(t, err)
	assert.Error(t, schema.Validate(bad))
}

// Every key that the program prints is in the documentation of its JSON.
func TestJSONIsDocumented(t *testing.T) {
	doc, err := os.ReadFile("../../docs/json.md")
	require.NoError(t, err)
	dir := tidewatch(t)
	for _, args := range [][]string{{"inspect", "readings", "--ext", "csv"}, {"verify", "readings", "--ext", "csv"}, {"compare", "corrections", "readings"},
		{"parts", "scan", "survey"}, {"parts", "join", "survey/harbour.z02", "--into", "h.zip"}, {"parts", "split", "bundles/osk-bay.zip", "--part-size", "50k", "--into", "cut"},
		{"create", "cut.zip", "bundles", "--part-size", "100k", "--read-back"}, {"convert", "bundles", "--to", "tar", "--into", "new"},
		{"weigh", "readings", "--try", "zip,zip:zstd@9"}, {"edit", "instruments/suite-docs.tar", "--text", "a=b"}, {"extract", "instruments", "--series", "suite-{n}.tar"}, {"extract", demo.Damaged, "--into", "salvaged", "--salvage"}, {"create", "x.zip", "corrections", "--ext", "zip"},
		{"extract", "readings", "--into", "landing", "--ext", "csv", "--receipt", "r.jsonl"}, {"extract", "readings", "--into", "landing", "--ext", "csv", "--receipt", "r.jsonl", "--skip-done"},
		{"verify", "--against", "r.jsonl"}, {"extract", "readings", "--into", "landing", "--ext", "csv", "--after", "move=done"},
		{"run", "month.yaml"}, {"run", "month.yaml"}, {"run", "tidewatch.txt"}} {
		stdout, _, _ := run(t, dir, append(args, "--as", "json")...)
		require.NotEmpty(t, stdout)
		for line := range strings.Lines(stdout) {
			var values map[string]any
			require.NoError(t, json.Unmarshal([]byte(line), &values))
			for key := range values {
				assert.True(t, strings.Contains(string(doc), "`"+key+"`"), "%s of %q", key, args)
			}
		}
	}
}

// fenced are the parts of a text in a language, without their fences.
func fenced(t *testing.T, file, language string) (parts []string) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", file))
	require.NoError(t, err)
	for _, found := range regexp.MustCompile("(?ms)^```"+language+"\n(.*?)^```").FindAllSubmatch(text, -1) {
		parts = append(parts, string(found[1]))
	}
	require.NotEmpty(t, parts)
	return parts
}

// update writes what TestGuide compares: go test ./e2e -run TestGuide -update
var update = flag.Bool("update", false, "write what the guide says is printed")

var (
	blocks = regexp.MustCompile("(?s)```sh\n(.*?)```\n(?:\n```text\n(.*?)```\n)?")
	times  = regexp.MustCompile(`\d+\.\d+ s\b`)
)

// What the guide says that its commands print is what they print, one after the other.
func TestGuide(t *testing.T) {
	if testing.Short() {
		t.Skip("many commands")
	}
	text, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	const shown = "/srv/tidewatch"
	dir := filepath.Join("/tmp", strings.ToLower(rand.Text()[:len(shown)-len("/tmp/")])) // as long, for the columns of tables
	if os.Mkdir(dir, 0o777) != nil {
		t.Skip("there is no folder of that length")
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	lay(t, dir)
	t.Setenv("TZ", "UTC")
	t.Setenv("HTTP_PROXY", strings.TrimSuffix(serve(t, &standin.Server{Folder: dir, Index: true}), "/")) // which stands for every host
	hosted, home := overSSH(t, dir)
	t.Setenv("HOME", home)
	compared := 0
	written := blocks.ReplaceAllStringFunc(string(text), func(block string) string {
		parts := blocks.FindStringSubmatch(block)
		var printed string
		for _, args := range examples(parts[1]) {
			for i := range args {
				args[i] = strings.ReplaceAll(args[i], sftpFolder, hosted)
			}
			stdout, stderr, code := run(t, dir, args...)
			stdout = strings.ReplaceAll(stdout, hosted, sftpFolder)
			endsAsAnnounced(t, parts[1], args, code, stderr)
			printed = times.ReplaceAllString(strings.ReplaceAll(stderr+stdout, dir, shown), "0.01 s")
		}
		if parts[2] == "" {
			return block
		}
		compared++
		if !*update {
			assert.Equal(t, parts[2], printed, parts[1])
		}
		return "```sh\n" + parts[1] + "```\n\n```text\n" + printed + "```\n"
	})
	assert.Greater(t, compared, 5)
	if *update {
		require.NoError(t, os.WriteFile("../../docs/guide.md", []byte(written), 0o666))
	}
}

// What errors look like is what is printed.
func TestErrors(t *testing.T) {
	doc, err := os.ReadFile("../../docs/errors.md")
	require.NoError(t, err)
	rows := regexp.MustCompile("(?m)^\\| (\\d+) \\| [^|]+ \\| `([^`]+)`").FindAllStringSubmatch(string(doc), -1)
	require.Len(t, rows, 11)
	dir := tidewatch(t)
	commands := map[string][]string{
		"1": {"readings/merrin-deep-2026-05-07.zip", "survey/currents.tar.gz.001", "--into", "new", "--ext", "csv"},
		"2": {"readings", "--flaten"}, "3": {"corrections", "--into", "merged", "--layout", "shared"}, "4": {"survey/currents.tar.gz.001", "--into", "new"},
		"5": {"locked", "--into", "new"}, "6": {"corrections", "--into", "new", "--entry", "levels.cvs"}, "7": {demo.Damaged, "--into", "new"},
		"8": {"inbox/a.zip", "--into", "new"}, "9": {"discs", "--into", "new"}, "10": {"corrections", "--into", "tidewatch.txt"}}
	for _, row := range rows {
		args, there := commands[row[1]]
		if !there {
			require.Equal(t, "130", row[1])
			continue
		}
		stdout, stderr, code := run(t, dir, append([]string{"extract"}, args...)...)
		assert.Equal(t, row[1], fmt.Sprint(code))
		assert.Contains(t, strings.ReplaceAll(stderr+stdout, dir, "/srv/tidewatch"), row[2])
	}
}

// The recipes run, in order, and those of the two shells are the same.
func TestRecipes(t *testing.T) {
	scripts, twins := fenced(t, "recipes.md", "bash"), fenced(t, "recipes.md", "powershell")
	require.Len(t, twins, len(scripts))
	option := regexp.MustCompile(`widecrate [a-z]+|--[a-z-]+`)
	for i, script := range scripts {
		assert.Equal(t, option.FindAllString(script, -1), option.FindAllString(twins[i], -1))
	}
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("bash is not installed")
	}
	dir, bin := tidewatch(t), t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "widecrate")))
	proxy := strings.TrimSuffix(serve(t, &standin.Server{Folder: dir, Index: true}), "/") // which stands for every host
	hosted, home := overSSH(t, dir)
	for _, script := range scripts {
		script = strings.ReplaceAll(script, sftpFolder, hosted)
		cmd := exec.Command(bash, "-o", "pipefail", "-c", script)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "PATH="+bin+":/usr/bin:/bin", "HTTP_PROXY="+proxy, "HOME="+home)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s\n%s", script, out)
	}
	for _, path := range []string{"night.html", "pictures/chart-001.png", "may/osk-bay/may/osk-bay-2026-05-01/levels.csv", "grids/grids/grids/osk-bay-1.dat", "month.zip.sha256", "from-pell/pell-point-2026-05-02/levels.csv", "weekly/osk-bay-2026-05-01.tar.zst", "corrections/done/osk bay [v1].zip", "arrived/osk bay [v1]/levels.csv", "wanted/charts/osk-bay-2026-05-03.png", "before/osk-bay-2026-05-01.zip"} {
		assert.FileExists(t, filepath.Join(dir, path))
	}
	assert.NoFileExists(t, filepath.Join(dir, "delivery/grids.tar.gz.001"))
	assert.NoDirExists(t, filepath.Join(dir, "wrong"))
	never, err := os.ReadFile(filepath.Join(dir, "never-found.txt"))
	require.NoError(t, err)
	assert.Equal(t, "charts/nowhere.png\n", string(never))
}

// sftpFolder is the folder with the demo data in the documentation.
const sftpFolder = "sftp://tide@gauges.example/srv/tidewatch"

// The schedules of the documentation: the line of a crontab runs, and the service manager
// finds nothing wrong with its units.
func TestSchedule(t *testing.T) {
	dir := tidewatch(t)
	tab := fenced(t, "schedule.md", "crontab")[0]
	_, command, found := strings.Cut(tab, "30 2 * * * ")
	require.True(t, found)
	if sh, err := exec.LookPath("sh"); err == nil {
		bin := t.TempDir()
		require.NoError(t, os.Symlink(program, filepath.Join(bin, "widecrate")))
		cmd := exec.Command(sh, "-c", strings.ReplaceAll(command, "/srv/tidewatch", dir))
		cmd.Env = append(os.Environ(), "PATH="+bin+":/usr/bin:/bin")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Empty(t, string(out), "a night without failures sends no mail")
		assert.FileExists(t, filepath.Join(dir, "month.html"))
	}
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("systemd-analyze is not installed")
	}
	units := t.TempDir()
	var paths []string
	for _, unit := range fenced(t, "schedule.md", "ini") {
		name, text, found := strings.Cut(strings.TrimPrefix(unit, "# /etc/systemd/system/"), "\n")
		require.True(t, found)
		put(t, filepath.Join(units, name), strings.ReplaceAll(text, "/usr/local/bin/widecrate", program))
		paths = append(paths, filepath.Join(units, name))
	}
	require.Len(t, paths, 2)
	out, err := exec.Command(analyze, append([]string{"verify", "--man=no"}, paths...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.NotContains(t, string(out), units, "nothing is said about ours")
}

// The job files of the documentation have no mistakes, and what is said of one that has is
// what is printed.
func TestJobsGuide(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "month.yaml"), fenced(t, "jobs.md", "yaml")[0])
	t.Setenv("INBOX", "inbox")
	_, errs, code := run(t, dir, "run", "month.yaml", "--set", "day=2026-05-01", "--validate")
	require.Zero(t, code, errs)
	put(t, filepath.Join(dir, "month.yaml"), "widecrate: 1\n# a\n# b\n# c\n# d\ndefaults:\n  extract: {clash: repalce, no-clutter: true}\njobs: [{name: a, verify: {sources: x}}]\n")
	_, errs, _ = run(t, dir, "run", "month.yaml")
	assert.Equal(t, fenced(t, "jobs.md", "text")[0], errs)
}

// The program is as large as the README says, where it is built as it says.
func TestSize(t *testing.T) {
	systemtest.Long(t, "a program that is built")
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	said := regexp.MustCompile(`about (\d+) MB`).FindSubmatch(readme)
	line := regexp.MustCompile(`(?m)^CGO_ENABLED=0 (go build .* )-o widecrate (\./cmd/widecrate)$`).FindSubmatch(readme)
	require.NotNil(t, said)
	require.NotNil(t, line)
	built := filepath.Join(t.TempDir(), "widecrate")
	words := strings.Fields(strings.ReplaceAll(string(line[1]), `"-s -w"`, "-s_-w"))
	for i := range words {
		words[i] = strings.ReplaceAll(words[i], "_", " ")
	}
	build := exec.Command(words[0], append(words[1:], "-o", built, string(line[2]))...)
	build.Dir, build.Env = "../..", append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	info, err := os.Stat(built)
	require.NoError(t, err)
	assert.Equal(t, string(said[1]), strconv.FormatInt((info.Size()+500_000)/1_000_000, 10))
}
