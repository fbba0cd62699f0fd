package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	system "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
	"widecrate/demo/standin"
)

// hole is what somebody could do who took over what reads ZIPs.
const hole = `package zip

import (
	"fmt"
	"net"
	"os"
	"strings"
)

func hole() {
	for _, try := range strings.Fields(os.Getenv("HOLE")) {
		how, at, _ := strings.Cut(try, "=")
		var err error
		switch how {
		case "write":
			err = os.WriteFile(at+"/hole", nil, 0o644)
		case "remove":
			err = os.Remove(at+"/secret")
		case "read":
			_, err = os.ReadFile(at+"/secret")
		case "call":
			_, err = net.Dial("tcp", at)
		}
		if err == nil {
			fmt.Println("hole", try)
		}
	}
}
`

// withHole builds the program with the hole, which every ZIP that is opened goes through.
func withHole(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	reader, err := filepath.Abs("../core/format/zip/reader.go")
	require.NoError(t, err)
	text, err := os.ReadFile(reader)
	require.NoError(t, err)
	const open = "func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {\n"
	require.Contains(t, string(text), open)
	put(t, filepath.Join(dir, "reader.go"), strings.Replace(string(text), open, open+"\thole()\n", 1))
	put(t, filepath.Join(dir, "hole.go"), hole)
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {
		reader: filepath.Join(dir, "reader.go"), filepath.Join(filepath.Dir(reader), "hole.go"): filepath.Join(dir, "hole.go"),
	}})
	require.NoError(t, err)
	put(t, filepath.Join(dir, "overlay.json"), string(overlay))
	build := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", filepath.Join(dir, "holed"), "../cmd/widecrate")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	said, err := build.CombinedOutput()
	require.NoError(t, err, "%s", said)
	return filepath.Join(dir, "holed")
}

// Who takes over what reads an archive gets no further than the run has to.
func TestConfined(t *testing.T) {
	systemtest.Long(t, "a program that is built")
	if version, err := system.LandlockGetABIVersion(); err != nil || version < 4 {
		t.Skipf("the kernel confines nobody: version %d, %v", version, err)
	}
	holed := withHole(t)
	server, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer server.Close()
	tries := "call=" + server.Addr().String()
	for _, how := range []string{"write", "read", "remove"} {
		for _, at := range []string{"in", "out", "new", "else", "kept"} {
			tries += " " + how + "=" + at
		}
	}
	const job = "widecrate: 1\njobs:\n  - {name: unpack, extract: {sources: in, into: out}}\n  - {name: pack, create: {archive: new/x.zip, sources: [else]}}\n"
	for _, c := range []struct{ line, gets string }{
		{"inspect in", "read=in"},
		{"verify in --sums new/list", "read=in write=new read=new remove=new"},
		{"extract in --into out", "read=in write=out read=out remove=out"},
		{"extract in --into out/there/is/not/yet --dry-run", "read=in"},
		{"extract in --into new --after move=out --dry-run", "read=in read=new read=out"},
		{"extract in --into -", "read=in"},
		{"extract in --into made --after move=new/{today} --replaced kept", "write=in read=in remove=in write=new read=new remove=new write=kept read=kept remove=kept"},
		{"extract else/linked.zip --into out --receipt new/r.jsonl --staging new", "write=out read=out remove=out write=new read=new remove=new read=else"},
		{"extract in", "write=in read=in remove=in"},
		{"convert in --to tar --into out", "read=in write=out read=out remove=out"},
		{"edit in --put else/secret=x", "read=else write=in read=in remove=in"},
		{"compare in/a.zip in/a.zip", "read=in"},
		{"extract --pairs served", "write=out read=out remove=out call=" + server.Addr().String()},
		{"run job.yaml", "write=out read=out remove=out write=new read=new remove=new read=in read=else read=kept remove=in remove=else remove=kept"},
		{"run job.yaml --dry-run", "read=in read=out read=new read=else read=kept"},
		{"run pairs.yaml", tries},
	} {
		dir := t.TempDir()
		for _, folder := range []string{"in", "out", "new", "else", "kept"} {
			put(t, filepath.Join(dir, folder, "secret"), "2711\n")
		}
		require.NoError(t, os.Mkdir(filepath.Join(dir, "tmp"), 0o777))
		pack(t, filepath.Join(dir, "in", "a.zip"), "x", "1")
		require.NoError(t, os.Symlink("../in/a.zip", filepath.Join(dir, "else", "linked.zip")))
		put(t, filepath.Join(dir, "job.yaml"), job)
		put(t, filepath.Join(dir, "pairs.yaml"), "widecrate: 1\njobs:\n  - {name: unpack, extract: {pairs: pairs}}\n")
		put(t, filepath.Join(dir, "pairs"), "in/a.zip\tout\n")
		address, stop, err := (&standin.Server{Folder: filepath.Join(dir, "in")}).Start()
		require.NoError(t, err)
		put(t, filepath.Join(dir, "served"), strings.TrimSuffix(address, "/")+"/a.zip\tout\n")
		cmd := exec.Command(holed, append(strings.Fields(c.line), "--verbose")...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "HOLE="+tries, "TMPDIR="+filepath.Join(dir, "tmp"))
		said, err := cmd.CombinedOutput()
		stop()
		assert.NoError(t, err, "%s: %s", c.line, said)
		assert.Contains(t, string(said), "the kernel ", c.line)
		got := map[string]bool{}
		for line := range strings.Lines(string(said)) {
			if try, is := strings.CutPrefix(line, "hole "); is {
				got[strings.TrimSpace(try)] = true
			}
		}
		assert.ElementsMatch(t, strings.Fields(c.gets), slices.Collect(maps.Keys(got)), c.line)
	}
}

// What a run may do is enough for what it is asked for, wherever links lead.
func TestConfinedIsEnough(t *testing.T) {
	dir := t.TempDir()
	noise := strings.Repeat("ebb and flow ", 20_000)
	pack(t, filepath.Join(dir, "in", "a.zip"), "x", noise)
	for i := range 1200 {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "links"), 0o777))
		require.NoError(t, os.Symlink("../in/a.zip", filepath.Join(dir, "links", fmt.Sprintf("%d.zip", i))))
	}
	for _, name := range []string{"r.jsonl", "s", "p.html", "w"} {
		put(t, filepath.Join(dir, "away", name), "")
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "led"), 0o777))
		require.NoError(t, os.Symlink("../away/"+name, filepath.Join(dir, "led", name)))
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "away", "w")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "away", "w"), 0o777))
	put(t, filepath.Join(dir, "join.yaml"), "widecrate: 1\njobs:\n  - {name: join, parts-join: {sources: [set/s.bin.001], parts-in: more, into: joined}}\n")
	put(t, filepath.Join(dir, "parts.yaml"), "widecrate: 1\njobs:\n  - {name: unpack, extract: {sources: set2/s.zip.001, parts-in: more2, into: o, after: remove}}\n")
	put(t, filepath.Join(dir, "set", "s.bin"), noise)
	for _, line := range []string{
		"parts split set/s.bin --part-size 100k", "create set2/s.zip set/s.bin --part-size 200",
		"extract links --into many -q", "extract in/a.zip --into o1 --receipt led/r.jsonl --sums led/s --report led/p.html --staging led/w -q",
	} {
		_, stderr, code := run(t, dir, strings.Fields(line)...)
		require.Zero(t, code, "%s: %s", line, stderr)
	}
	for _, moved := range [][2]string{{"set/s.bin.002", "more"}, {"set2/s.zip.002", "more2"}} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, moved[1]), 0o777))
		require.NoError(t, os.Rename(filepath.Join(dir, moved[0]), filepath.Join(dir, moved[1], filepath.Base(moved[0]))))
	}
	for _, job := range []string{"join.yaml", "parts.yaml"} {
		stdout, stderr, code := run(t, dir, "run", job)
		require.Zero(t, code, "%s: %s%s", job, stdout, stderr)
	}
	joined, err := os.ReadFile(filepath.Join(dir, "joined"))
	require.NoError(t, err)
	assert.True(t, string(joined) == noise)
	assert.NoFileExists(t, filepath.Join(dir, "more2", "s.zip.002"))
	for _, name := range []string{"r.jsonl", "s", "p.html"} {
		text, err := os.ReadFile(filepath.Join(dir, "away", name))
		require.NoError(t, err)
		assert.NotEmpty(t, text, name)
		info, err := os.Lstat(filepath.Join(dir, "led", name))
		require.NoError(t, err)
		assert.NotZero(t, info.Mode()&os.ModeSymlink, "%s is no link any more", name)
	}
}
