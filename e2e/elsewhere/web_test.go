package elsewhere

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
	"widecrate/demo/standin"
)

// month is a folder with an archive of each kind, made by the program itself.
func month(t *testing.T) string {
	t.Helper()
	monthOnce.Do(func() { monthData = makeMonth(t) })
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, monthData))
	return dir
}

var (
	monthOnce sync.Once
	monthData fs.FS // in memory
)

func makeMonth(t *testing.T) fs.FS {
	dir := tidewatch(t)
	put(t, filepath.Join(dir, "notes", "long.log"), noise(300_000)+strings.Repeat("level 1.23\n", 50_000))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "web"), 0o777))
	for _, name := range []string{"web/all.tar", "web/all.tar.gz", "web/all.tar.xz", "web/all.zip"} {
		_, stderr, code := run(t, dir, "create", name, "bundles", "notes", "-q", "--level", "fast")
		require.Zero(t, code, stderr)
	}
	_, stderr, code := run(t, dir, "create", "web/long.log.gz", "notes/long.log", "-q")
	require.Zero(t, code, stderr)
	files := fstest.MapFS{}
	for path, data := range tree(t, dir) {
		if !strings.HasSuffix(path, "/") {
			files[path] = &fstest.MapFile{Data: []byte(data), Mode: 0o644}
		}
	}
	return files
}

// From a server of any kind, with any number of workers, the same comes out as from
// the disk.
func TestAddressesAreAsGood(t *testing.T) {
	dir := month(t)
	sources := map[string][]string{
		"zip":    {"web/all.zip"},
		"tar":    {"web/all.tar"},
		"tar.gz": {"web/all.tar.gz"},
		"tar.xz": {"web/all.tar.xz"},
		"gzip":   {"web/long.log.gz"},
		"nested": {"web/all.zip", "--nested", "--drop", "*.png"},
		"in tar": {"web/all.tar", "--nested", "--rename", "{stem}-{n}{ext}", "--halt"},
		"set":    {"survey/grids.tar.gz.002"},
		"split":  {"survey/harbour.zip"},
		"series": {"instruments/suite-3.tar", "--series", "suite-{n}.tar"},
		"picked": {"web/all.tar", "--ext", "log", "--flatten"},
		"merged": {"readings/osk-bay-2026-05-01.zip", "readings/pell-point-2026-05-02.zip", "--layout", "shared", "--rename", "{archive}-{n}{ext}"},
	}
	want := map[string]map[string]string{}
	for name, args := range sources {
		out := filepath.Join(t.TempDir(), "out")
		local := append([]string{"extract"}, args...)
		if name == "series" {
			local[1] = "instruments"
			local = append(local, "--archives", "suite-[0-9]*.tar")
		}
		_, stderr, code := run(t, dir, append(local, "--into", out, "-q")...)
		require.Zero(t, code, stderr)
		want[name] = tree(t, out)
		require.NotEmpty(t, want[name])
	}
	for i, server := range []*standin.Server{
		{},
		{Tag: `"may"`, Faults: []standin.Fault{standin.Cut(100_000)}},
		{NoTimes: true, Faults: []standin.Fault{standin.Each(3, standin.Status(http.StatusServiceUnavailable, "Retry-After", "0"))}},
		{NoRanges: true},
		{NoRanges: true, NoLength: true, NoTimes: true},
	} {
		server.Folder = dir
		address := serve(t, server)
		_, stderr, code := run(t, dir, "parts", "join", address+"survey/harbour.zip", "--into", filepath.Join(t.TempDir(), "joined.zip"))
		assert.Zero(t, code, stderr)
		for name, args := range sources {
			t.Run(fmt.Sprintf("%d %s", i, name), func(t *testing.T) {
				t.Parallel()
				all := []string{"1", "2", "3", "8"}
				if i > 0 {
					all = all[2:systemtest.Rounds(3, 3, 4)]
				}
				for _, workers := range all {
					out := filepath.Join(t.TempDir(), workers)
					remote := []string{"extract", "--into", out, "-q", "--workers", workers}
					for _, arg := range args {
						if strings.Contains(arg, "/") {
							arg = address + arg
						}
						remote = append(remote, arg)
					}
					_, stderr, code := run(t, dir, remote...)
					require.Zero(t, code, stderr)
					assert.True(t, maps.Equal(want[name], tree(t, out)), "not the same with %s workers", workers)
				}
			})
		}
	}
}

// What is fetched is kept as it came, once, and what comes of it is the same.
func TestKeepFetched(t *testing.T) {
	dir := month(t)
	put(t, filepath.Join(dir, "other/all.tar.gz"), "something else of that name")
	sources := []string{"bundles/osk-bay.zip", "web/all.tar.gz", "survey/harbour.zip", "survey/grids.tar.gz.001"}
	came := map[string]string{}
	for _, name := range append(sources, "survey/harbour.z01", "survey/harbour.z02", "survey/harbour.z03", "survey/grids.tar.gz.002", "survey/grids.tar.gz.003", "survey/grids.tar.gz.004") {
		if data, err := os.ReadFile(filepath.Join(dir, name)); err == nil {
			came[filepath.Base(name)] = string(data)
		}
	}
	came["all-2.tar.gz"], came["all.tar.gz"] = came["all.tar.gz"], "something else of that name"
	for i, server := range []*standin.Server{
		{},
		{Faults: []standin.Fault{standin.Cut(100_000)}},
		{NoRanges: true, NoLength: true},
	} {
		server.Folder = dir
		address, work := serve(t, server), t.TempDir()
		put(t, filepath.Join(work, "kept/all.tar.gz"), "something else of that name")
		args := []string{"--keep-fetched", "kept", "--receipt", "r.jsonl"}
		for _, source := range sources {
			args = append(args, address+source)
		}
		_, stderr, code := run(t, work, append([]string{"extract", "--into", "dry", "--dry-run"}, args...)...)
		require.Zero(t, code, stderr)
		assert.Len(t, tree(t, filepath.Join(work, "kept")), 1)
		for _, command := range []string{"extract --into out", "convert --to tar --into new"} {
			_, stderr, code := run(t, work, append(strings.Fields(command), args...)...)
			require.Zero(t, code, "%d: %s", i, stderr)
			kept := tree(t, filepath.Join(work, "kept"))
			assert.Equal(t, sorted(came), sorted(kept))
			assert.True(t, maps.Equal(came, kept))
		}
		if i == 0 {
			stdout, stderr, code := run(t, work, "convert", address+sources[0], address+sources[1], "--to", "tar", "--into", "new", "--skip-done", "--receipt", "r.jsonl")
			require.Zero(t, code, stderr)
			assert.Contains(t, stdout, "0 archives converted, 2 done before")
		}
		sum := sha256.Sum256([]byte(came["harbour.z01"]))
		receipt, err := os.ReadFile(filepath.Join(work, "r.jsonl"))
		require.NoError(t, err)
		assert.Equal(t, 2, strings.Count(string(receipt), hex.EncodeToString(sum[:])))
		_, stderr, code = run(t, work, "compare", "out/osk-bay", filepath.Join(dir, "bundles/osk-bay.zip"))
		assert.Zero(t, code, stderr)
	}
	broken := serve(t, &standin.Server{Folder: dir, NoRanges: true, Faults: []standin.Fault{standin.Cut(100_000)}})
	work := t.TempDir()
	_, _, code := run(t, work, "verify", broken+"web/all.tar.gz", "--keep-fetched", "kept", "--retries", "0")
	assert.Equal(t, 8, code)
	assert.Empty(t, tree(t, work), "whole or not at all")
	good := serve(t, &standin.Server{Folder: dir})
	_, _, code = run(t, work, "verify", good+"web/all.tar.gz", "--keep-fetched", "kept", "--max-total", "10k")
	assert.Equal(t, 9, code)
	assert.Empty(t, tree(t, work), "nor more than is allowed")
}

func sorted(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }

// What is wrong with an address, or with what lies there, is said, with its code.
func TestAddressesThatFail(t *testing.T) {
	dir := month(t)
	good := serve(t, &standin.Server{Folder: dir})
	page := serve(t, &standin.Server{Folder: dir, Faults: []standin.Fault{standin.Page}})
	guarded := serve(t, &standin.Server{Folder: dir, Faults: []standin.Fault{standin.Guarded("Bearer tide")}})
	broken := serve(t, &standin.Server{Folder: dir, NoRanges: true, Faults: []standin.Fault{standin.Cut(100_000)}})
	gate := serve(t, &standin.Server{Folder: dir, Faults: []standin.Fault{func(_ int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter {
		id := r.URL.Query().Get("id")
		r.URL.Path = "/web/" + id
		w.Header().Set("Content-Disposition", `attachment; filename="`+id+`"`)
		return w
	}}})
	named := serve(t, &standin.Server{Folder: dir, Faults: []standin.Fault{standin.Headers("Content-Disposition", `attachment; filename="day.zip"`)}})
	labelled := standin.Headers("Content-Encoding", "gzip")
	packed := serve(t, &standin.Server{Folder: dir, Faults: []standin.Fault{labelled}})
	packedFlow := serve(t, &standin.Server{Folder: dir, NoRanges: true, Faults: []standin.Fault{labelled}})
	_, stderr, code := run(t, dir, "create", "again.gz", "web/all.tar.gz")
	require.Zero(t, code, stderr)
	require.NoError(t, os.Rename(filepath.Join(dir, "again.gz"), filepath.Join(dir, "again.tar.gz")))
	t.Setenv("TIDE_TOKEN", "tide")
	t.Setenv("NO_TOKEN", "")
	for name, c := range map[string]struct {
		args string
		code int
		want string // in what is printed
	}{
		"missing":               {"extract " + good + "none.zip --into o", 8, "404 Not Found"},
		"a folder":              {"extract " + good + "readings/ --into o", 8, "does not list it"},
		"no destination":        {"extract " + good + "web/all.zip", 2, "name the folder that it goes into with --into"},
		"removed afterwards":    {"extract " + good + "web/all.zip --into kept --after remove", 10, "it does not take changes there"},
		"a password in it":      {"extract http://a:b@gauges.example/a.zip --into o", 2, "netrc"},
		"a page":                {"extract " + page + "web/all.zip --into o", 7, "it is a web page and no archive"},
		"not allowed":           {"extract " + guarded + "web/all.zip --into o", 8, "401 Unauthorized"},
		"allowed":               {"extract " + guarded + "web/all.zip --into o1 --token-env TIDE_TOKEN", 0, "1 archive unpacked"},
		"no token":              {"extract " + guarded + "web/all.zip --into o --token-env NO_TOKEN", 2, "no token in NO_TOKEN"},
		"a token for two hosts": {"extract " + guarded + "web/all.zip " + good + "web/all.zip --into o --token-env TIDE_TOKEN", 2, "a token is for one host"},
		"it breaks":             {"extract " + broken + "web/long.log.gz --into o --retries 0", 8, "the connection was lost"},
		"it breaks in a tar.gz": {"extract " + broken + "web/all.tar.gz --into o --retries 0", 8, "the connection was lost"},
		"said to be packed":     {"extract " + packed + "web/all.tar.gz --into o2", 0, "1 archive unpacked"},
		"packed once more":      {"extract " + packed + "again.tar.gz --into o", 8, "packed once more (Content-Encoding: gzip)"},
		"more, as it comes":     {"extract " + packedFlow + "again.tar.gz --into o", 8, "packed once more (Content-Encoding: gzip)"},
		"it breaks in a tar.xz": {"extract " + broken + "web/all.tar.xz --into o --retries 0", 8, "the connection was lost"},
		"it breaks in a tar":    {"extract " + broken + "web/all.tar --into o --retries 0", 8, "the connection was lost"},
		"it breaks, verified":   {"verify " + broken + "web/all.tar.gz --retries 0", 8, "the connection was lost"},
		"it breaks, listed":     {"inspect " + broken + "web/all.tar.gz --retries 0", 8, "the connection was lost"},
		"a part is missing":     {"extract " + good + "survey/currents.tar.gz.001 --into o", 4, "missing: currents.tar.gz.002"},
		"a series with a gap":   {"extract " + good + "instruments/suite-3.tar --series suite-{n}.tar --series-count 14 --into o", 4, "suite-13.tar"},
		"a series of nothing":   {"extract " + good + "instruments/ --series none-{n}.tar --into o", 6, "no archive is called like the series"},
		"no pattern at a host":  {"extract " + good + "instruments/ --series s*-{n}.tar --into o", 2, "cannot be asked for all names"},
		"the same folder twice": {"extract " + good + "web/all.zip " + good + "web/all.tar --into o", 3, "would also be that of"},
		"the same name twice":   {"extract " + named + "web/all.zip " + named + "web/long.log.gz --into o2 --workers 1", 3, "would also be that of"},
		"two through one gate":  {"extract " + gate + "download?id=all.zip " + gate + "download?id=all.tar.gz --into o7 --own-name {name}", 0, "2 archives unpacked"},
		"one, twice, by a gate": {"extract " + gate + "download?id=all.zip " + gate + "download?id=all.zip&again --into o8", 3, "would also be that of"},
		"a name to no folder":   {"extract " + named + "web/all.zip --into -", 0, "1 archive unpacked"},
		"no entry of that name": {"extract " + good + "web/all.zip --into o --entry none.csv", 6, "none.csv"},
		"input named twice":     {"extract - - --into o", 2, "more than one thing"},
		"input as list as well": {"extract - --source-list - --into o", 2, "more than one thing"},
		"nothing from input":    {"extract - --into o", 7, "it is empty"},
		"input to nowhere":      {"extract -", 2, "name the folder that it goes into with --into"},
		"a host that is not":    {"inspect http://gauges.invalid/a.zip", 8, "gauges.invalid"},
		"nobody listens":        {"inspect http://127.0.0.1:1/a.zip --retries 0", 8, "there is no answer"},
		"no certificate":        {"inspect " + good + "web/all.zip --ca-file tidewatch.txt", 8, "no certificate in it"},
		"inspect":               {"inspect " + good + "web/all.zip --totals", 0, "6 files"},
		"inspect many":          {"inspect " + good + "readings/osk-bay-2026-05-01.zip " + good + "none.zip " + good + "web/all.tar.gz --totals", 8, "404"},
		"verify":                {"verify " + good + "web/all.zip " + good + "web/all.tar --nested", 0, "archives verified"},
		"compare":               {"compare " + good + "web/all.zip web/all.tar", 0, "6 the same"},
		"convert":               {"convert " + good + "web/all.tar.gz --to zip --into o3", 0, "1 archive converted"},
		"join":                  {"parts join " + good + "survey/harbour.z02 --into o4.zip", 0, "ordinary ZIP"},
		"join of none":          {"parts join " + good + "web/all.zip --into o5.zip", 8, "part of no set"},
		"kept, and said":        {"extract " + broken + "web/all.zip --into o6 -v --retries 0", 8, "the connection was lost"},
		"dry run":               {"extract " + good + "web/all.zip --into o --dry-run", 0, "would be written"},
	} {
		t.Run(name, func(t *testing.T) {
			stdout, stderr, code := run(t, dir, strings.Fields(c.args)...)
			assert.Equal(t, c.code, code, stderr)
			assert.Contains(t, stdout+stderr, c.want)
			assert.NotContains(t, stdout+stderr, "a:b@")
			assert.NotContains(t, stderr, "tide\"")
		})
	}
	assert.NoDirExists(t, filepath.Join(dir, "o"))
}

// Standard input may be a file or a stream, of any format.
func TestStandardInput(t *testing.T) {
	dir := month(t)
	for _, name := range []string{"all.zip", "all.tar", "all.tar.gz", "all.tar.xz"} {
		for _, stream := range []bool{false, true} {
			for _, args := range []string{"extract - --into %s -q", "extract - --into %s -q --nested", "convert - --to zip --into %s -q", "convert - --to tar.zst --into %s -q"} {
				t.Run(fmt.Sprint(name, stream, args), func(t *testing.T) {
					t.Parallel()
					out := filepath.Join(t.TempDir(), "out")
					in, err := os.Open(filepath.Join(dir, "web", name))
					require.NoError(t, err)
					defer in.Close()
					cmd := exec.Command(program, strings.Fields(fmt.Sprintf(args, out))...)
					cmd.Dir = dir
					cmd.Stdin = in
					if stream {
						data, err := os.ReadFile(in.Name())
						require.NoError(t, err)
						cmd.Stdin = bytes.NewReader(data)
					}
					said, err := cmd.CombinedOutput()
					require.NoError(t, err, string(said))
					assert.Empty(t, string(said))
					if to := strings.Fields(args); to[0] == "convert" {
						_, stderr, code := run(t, dir, "compare", filepath.Join("web", name), filepath.Join(out, "standard-input."+to[3]))
						assert.Zero(t, code, stderr)
						return
					}
					got := tree(t, filepath.Join(out, "standard-input"))
					assert.Contains(t, got, "notes/long.log")
					assert.Equal(t, strings.Contains(args, "nested"), got["bundles/osk-bay.zip"] == "")
				})
			}
		}
	}
}

// With a single connection to the host, whoever holds it lets others go first: nothing
// hangs, however much is read at once.
func TestOneConnection(t *testing.T) {
	dir := month(t)
	for kind, server := range map[string]*standin.Server{"ranges": {}, "none": {NoRanges: true, NoLength: true}} {
		server.Folder = dir
		address := serve(t, server)
		all := []string{address + "web/all.zip", address + "web/all.tar", address + "web/all.tar.gz", address + "web/all.tar.xz", address + "web/long.log.gz"}
		if kind == "ranges" {
			all = append(all, address+"survey/harbour.zip", address+"survey/grids.tar.gz.001")
		}
		for name, args := range map[string][]string{
			"own":     append([]string{"extract", "--into", filepath.Join(t.TempDir(), "o"), "--own-name", "{name}", "--nested"}, all...),
			"shared":  append([]string{"extract", "--into", filepath.Join(t.TempDir(), "s"), "--layout", "shared", "--rename", "{archive}-{n}{ext}", "--clash", "number"}, all...),
			"series":  {"extract", "--into", filepath.Join(t.TempDir(), "r"), "--series", "suite-{n}.tar", address + "instruments/suite-12.tar"},
			"inspect": append([]string{"inspect", "--totals"}, all...),
			"verify":  append([]string{"verify", "--nested"}, all...),
			"compare": {"compare", address + "web/all.zip", address + "web/all.tar.gz"},
			"convert": append([]string{"convert", "--to", "zip", "--into", t.TempDir(), "--clash", "number"}, all...),
		} {
			if kind == "none" && name == "series" {
				continue
			}
			t.Run(kind+" "+name, func(t *testing.T) {
				t.Parallel()
				limits := []string{"--connections", "1"}
				if name != "inspect" && name != "compare" {
					limits = append(limits, "--workers", "8")
				}
				_, stderr, code := run(t, dir, append(args, limits...)...)
				assert.Zero(t, code, stderr)
			})
		}
	}
}

// Of an archive that is stored in another one at an address, only what is wanted is
// fetched, and nothing of what a receipt says is done.
func TestOnlyWhatIsWanted(t *testing.T) {
	dir := t.TempDir()
	for i := range 5 {
		put(t, filepath.Join(dir, "day", fmt.Sprintf("%d.dat", i)), noise(1_000_000+i))
	}
	for _, line := range []string{"create inner.zip day -q", "create middle.tar inner.zip -q", "create outer.zip middle.tar --method store -q"} {
		_, stderr, code := run(t, dir, strings.Fields(line)...)
		require.Zero(t, code, stderr)
	}
	server := &standin.Server{Folder: dir}
	address := serve(t, server)
	for _, c := range []struct {
		args string
		most int64 // bytes over the line
	}{
		{"inspect " + address + "inner.zip", 120_000},
		{"inspect " + address + "outer.zip --nested", 250_000},
		{"extract " + address + "inner.zip --into a --entry day/3.dat", 1_150_000},
		{"extract " + address + "outer.zip --into b --nested --entry day/3.dat", 1_400_000},
		{"extract " + address + "inner.zip --into a --dry-run", 120_000},
		{"extract " + address + "inner.zip --into a --receipt r.jsonl", 5_200_000},
		{"extract " + address + "inner.zip --into a --receipt r.jsonl --skip-done", 100},
	} {
		before := server.Bytes.Load()
		_, stderr, code := run(t, dir, strings.Fields(c.args)...)
		require.Zero(t, code, stderr)
		assert.LessOrEqual(t, server.Bytes.Load()-before, c.most, c.args)
	}
	assert.Equal(t, noise(1_000_003), tree(t, filepath.Join(dir, "b"))["outer/middle/inner/day/3.dat"])
}
