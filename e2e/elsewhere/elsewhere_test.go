package elsewhere

import (
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/demo/standin"
)

// elsewhere is a folder on a server, which is also on this disk.
type elsewhere struct {
	address string   // ends in a slash
	options []string // that let the program in
}

// The servers that there are. Those that can be written to are the last two.
var servers = []string{"stand-in", "nginx list", "nginx json", "nginx xml", "apache list", "apache dav", "ssh"}

// startServer runs one for a folder; where it is not installed, the test is skipped.
func startServer(t *testing.T, kind, folder string) elsewhere {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("the servers are those of another system")
	}
	name, form, _ := strings.Cut(kind, " ")
	switch name {
	case "nginx":
		plain, _, _ := startNginx(t, folder)
		return elsewhere{plain + form + "/", nil}
	case "apache":
		at := startApache(t, folder) + "/"
		if form == "list" {
			at += "plain/"
		}
		return elsewhere{at, nil}
	case "ssh":
		s := startSSH(t, "")
		return elsewhere{s.address + filepath.ToSlash(folder) + "/", s.options}
	}
	return elsewhere{serve(t, &standin.Server{Folder: folder, Index: true}), nil}
}

// do runs the program with the options that let it in.
func (e elsewhere) do(t *testing.T, dir string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return run(t, dir, append(args, e.options...)...)
}

// hosted is a copy of some demo data that a server may change.
func hosted(t *testing.T, from string, folders ...string) string {
	t.Helper()
	to, err := os.MkdirTemp("", "widecrate-hosted-*") // that a server's user may go into
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(to) })
	for _, folder := range folders {
		require.NoError(t, os.CopyFS(filepath.Join(to, folder), os.DirFS(filepath.Join(from, folder))))
	}
	writable(t, to)
	return to
}

// A folder at an address is a folder, whatever the server and the way in which it lists it.
func TestFoldersElsewhere(t *testing.T) {
	dir := tidewatch(t)
	put(t, filepath.Join(dir, "inbox", "a & b #1.zip"), readFile(t, filepath.Join(dir, "readings/osk-bay-2026-05-01.zip")))
	put(t, filepath.Join(dir, "inbox", "größe", "100% [ü].zip"), readFile(t, filepath.Join(dir, "readings/osk-bay-2026-05-02.zip")))
	put(t, filepath.Join(dir, "inbox", "größe", "notes.txt"), "no archive")
	root := hosted(t, dir, "readings", "survey", "instruments", "inbox")
	nights := map[string][]string{
		"readings":  {"readings", "--ext", "csv"},
		"sets":      {"survey", "--layout", "auto", "--archives", "{grids,harbour}.{zip,tar.gz}"},
		"names":     {"inbox", "--recursive"},
		"all":       {"", "--recursive", "--archives", "{*-03.zip,harbour.zip,osk*.zip}", "--own-name", "{from}-{archive}"},
		"series":    {"instruments", "--archives", "suite-*", "--series", "suite-{n}.tar"},
		"settled":   {"readings", "--settled", "10m"},
		"one share": {"inbox", "--recursive", "--shard", "1/2"},
	}
	want := map[string]map[string]string{}
	for name, args := range nights {
		out := filepath.Join(t.TempDir(), "out")
		_, stderr, code := run(t, root, append([]string{"extract", "./" + args[0], "--into", out, "-q"}, args[1:]...)...)
		if name != "readings" {
			require.Zero(t, code, stderr)
		}
		want[name] = tree(t, out)
		require.Equal(t, name == "settled", len(want[name]) == 0, name)
	}
	for _, kind := range servers {
		t.Run(kind, func(t *testing.T) {
			at := startServer(t, kind, root)
			for name, args := range nights {
				out := filepath.Join(t.TempDir(), "out")
				address := at.address + args[0]
				if args[0] != "" {
					address += "/"
				}
				night := append([]string{"extract", address, "--into", out, "--receipt", out + ".jsonl"}, args[1:]...)
				_, stderr, code := at.do(t, dir, append(night, "-q")...)
				if name != "readings" { // where one is damaged
					require.Zero(t, code, stderr)
				}
				assert.True(t, maps.Equal(want[name], tree(t, out)), "%s: not the same", name)
				if name == "settled" {
					assert.Contains(t, stderr, "left alone")
					continue
				}
				stdout, stderr, _ := at.do(t, dir, append(night, "--skip-done")...)
				assert.Contains(t, stdout+stderr, "0 archives unpacked", name)
			}
			stdout, _, code := at.do(t, dir, "inspect", at.address+"inbox/")
			assert.Zero(t, code)
			assert.Contains(t, stdout, "a%20&%20b%20%231.zip")
			_, stderr, code := at.do(t, dir, "inspect", at.address+"inbox/none/")
			assert.Equal(t, 8, code, stderr)
			_, stderr, code = at.do(t, dir, "inspect", at.address+"inbox")
			assert.Equal(t, 8, code, stderr)
			assert.Contains(t, stderr, "end the address with a slash")
			put(t, filepath.Join(root, "circle/x.zip"), readFile(t, filepath.Join(dir, "readings/osk-bay-2026-05-01.zip")))
			writable(t, filepath.Join(root, "circle"))
			if err := os.Symlink(".", filepath.Join(root, "circle/in")); err != nil {
				t.Skip("no links here")
			}
			defer os.RemoveAll(filepath.Join(root, "circle"))
			out := filepath.Join(t.TempDir(), "circle")
			_, stderr, code = at.do(t, dir, "extract", at.address+"circle/", "--recursive", "--into", out, "-q")
			assert.Contains(t, []int{0, 9}, code, stderr) // where the server follows links
			assert.True(t, code == 0 || strings.Contains(stderr, "in circles"), stderr)
			assert.NoDirExists(t, filepath.Join(out, "in"))
			assert.FileExists(t, filepath.Join(out, "x/levels.csv"))
			for _, folder := range []string{"inbox/", "readings/"} {
				_, stderr, code = at.do(t, dir, "compare", at.address+folder, "readings")
				assert.Equal(t, 8, code, stderr)
				assert.Contains(t, stderr, "it is a folder at an address", folder)
			}
		})
	}
}

// What was delivered leaves the server as it would leave a folder, and nothing else does.
func TestAfterElsewhere(t *testing.T) {
	dir := tidewatch(t)
	for _, kind := range servers[5:] {
		t.Run(kind, func(t *testing.T) {
			if runtime.GOOS == "windows" {
				t.Skip("the servers are those of another system")
			}
			root := hosted(t, dir, "readings", "survey")
			at := startServer(t, kind, root)
			inbox, done, failed := at.address, at.address+"done/", at.address+"failed"
			require.NoError(t, os.MkdirAll(filepath.Join(root, "done"), 0o777))
			same := readFile(t, filepath.Join(root, "readings/gull-ness-2026-05-01.zip"))
			put(t, filepath.Join(root, "done/gull-ness-2026-05-01.zip"), same)
			put(t, filepath.Join(root, "done/gull-ness-2026-05-02.zip"), "another of that name")
			writable(t, root)
			before := tree(t, root)
			night := []string{"extract", inbox, "--recursive", "--into", "landing " + kind, "--after", "move=" + done, "--failed", "move=" + failed}
			stdout, stderr, code := at.do(t, dir, append(night, "--dry-run")...)
			assert.Equal(t, 4, code, stderr)
			assert.Contains(t, stdout, "would be moved to "+strings.TrimSuffix(done, "/"))
			assert.Equal(t, before, tree(t, root))
			_, stderr, code = at.do(t, dir, night...)
			assert.Equal(t, 1, code, stderr)
			after := tree(t, root)
			assert.Equal(t, []string{"survey/currents.tar.gz.sha256", "survey/grids.tar.gz.sha256", "survey/harbour.zip.sha256"}, leftIn(after, "readings/", "survey/"))
			assert.Equal(t, same, after["done/gull-ness-2026-05-01.zip"])
			assert.Equal(t, "another of that name", after["done/gull-ness-2026-05-02.zip"])
			assert.Equal(t, before["readings/gull-ness-2026-05-02.zip"], after["done/gull-ness-2026-05-02-2.zip"])
			assert.Equal(t, before["survey/harbour.z02"], after["done/harbour.z02"])
			assert.Equal(t, before["readings/merrin-deep-2026-05-07.zip"], after["failed/merrin-deep-2026-05-07.zip"])
			assert.Equal(t, before["survey/currents.tar.gz.003"], after["failed/currents.tar.gz.003"])
			assert.Contains(t, after["failed/merrin-deep-2026-05-07.zip.reason.txt"], "its data ends after")
			_, stderr, code = at.do(t, dir, night...)
			assert.Zero(t, code, stderr)
			assert.Equal(t, after, tree(t, root), "nothing is left to do")

			// Taken back, it is where it was; and not, where what it came from is gone.
			again := []string{"extract", at.address + "done/", "--into", "again " + kind, "--archives", "osk*", "--receipt", kind + ".jsonl", "-q"}
			_, stderr, code = at.do(t, dir, append(again, "--after", "move="+at.address+"osk/")...)
			assert.Zero(t, code, stderr)
			assert.Empty(t, leftIn(tree(t, root), "done/osk"))
			_, stderr, code = at.do(t, dir, "undo", kind+".jsonl")
			assert.Zero(t, code, stderr)
			assert.Len(t, leftIn(tree(t, root), "done/osk"), 12)
			assert.NoDirExists(t, filepath.Join(dir, "again "+kind))
			_, stderr, code = at.do(t, dir, append(again, "--after", "remove")...)
			assert.Zero(t, code, stderr)
			_, stderr, code = at.do(t, dir, "undo", kind+".jsonl")
			assert.Equal(t, 3, code, stderr)
			assert.Len(t, leftIn(tree(t, dir), "again "+kind+"/"), 12*4)

			for _, c := range []struct {
				args []string
				want string
			}{
				{[]string{"--into", "x", "--after", "move=done"}, "can only be moved on its server"},
				{[]string{"--into", "x", "--after", "move=http://elsewhere.example/done/"}, "no address on the same host"},
				{[]string{"--into", at.address + "x"}, "widecrate convert --into makes an archive"},
			} {
				_, stderr, code := at.do(t, dir, append([]string{"extract", at.address + "done/"}, c.args...)...)
				assert.Equal(t, 2, code, stderr)
				assert.Contains(t, stderr, c.want)
			}
			_, stderr, code = at.do(t, dir, "extract", "readings", "--into", "x", "--after", "move="+done)
			assert.Equal(t, 2, code, stderr)
			assert.Contains(t, stderr, "it lies on disk")

			_, stderr, code = at.do(t, dir, "convert", done, "--to", "tar.zst", "--into", "new "+kind, "--after", "remove", "-q")
			assert.NotZero(t, code, stderr) // one is not an archive
			assert.Equal(t, []string{"done/gull-ness-2026-05-02.zip"}, leftIn(tree(t, root), "done/"))
		})
	}
}

// readFile is what is in a file.
func readFile(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(data)
}

// leftIn are the paths in a tree that start like this.
func leftIn(files map[string]string, starts ...string) (paths []string) {
	for path := range files {
		if !strings.HasSuffix(path, "/") && slices.ContainsFunc(starts, func(start string) bool { return strings.HasPrefix(path, start) }) {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}
