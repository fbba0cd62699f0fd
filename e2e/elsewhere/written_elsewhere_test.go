package elsewhere

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written to a server is there as a whole, under its name, and like what is written to
// the disk.
func TestWrittenElsewhere(t *testing.T) {
	dir := tidewatch(t)
	put(t, filepath.Join(dir, "many"), noise(3_000_000))
	commands := [][]string{
		{"create", "TO/new/a b.zip", "bundles", "many", "--read-back", "--sums", "TO/a.sums", "--receipt", "TO/a.jsonl", "--reproducible"},
		{"create", "TO/cut.zip", "bundles", "--part-size", "100k", "--part-style", "zip", "--read-back", "--reproducible"},
		{"create", "TO/one.zip", "corrections", "--part-size", "10M", "--part-style", "zip", "--reproducible"},
		{"create", "TO/each/{name}.tar.gz", "readings", "bundles", "--each", "--reproducible", "--receipt", "TO/each.jsonl"},
		{"convert", "corrections", "bundles", "--to", "tar.xz", "--into", "TO/conv", "--receipt", "TO/conv.jsonl", "--sums", "TO/conv.sums"},
		{"parts", "split", "bundles/osk-bay.zip", "--part-size", "30k", "--into", "TO/parts"},
	}
	do := func(t *testing.T, at elsewhere, more ...string) {
		for _, command := range commands {
			args := append(slices.Clone(command), more...)
			if command[0] == "parts" {
				args = slices.Clone(command)
			}
			for i := range args {
				args[i] = strings.ReplaceAll(args[i], "TO/", at.address)
			}
			if remote := strings.Contains(at.address, "://"); remote {
				args[1] = strings.ReplaceAll(args[1], " ", "%20")
			}
			_, stderr, code := at.do(t, dir, args...)
			require.Zero(t, code, "%v: %s", args, stderr)
		}
	}
	local := t.TempDir()
	do(t, elsewhere{address: local + "/"})
	want := tree(t, local)
	receipts := func(files map[string]string) (lines int) {
		for path, text := range files {
			if strings.HasSuffix(path, ".jsonl") {
				lines += strings.Count(text, "\n")
				delete(files, path)
			}
		}
		return lines
	}
	rows := receipts(want)
	for _, kind := range servers[5:] {
		t.Run(kind, func(t *testing.T) {
			root := hosted(t, dir)
			at := startServer(t, kind, root)
			do(t, at)
			got := tree(t, root)
			assert.Equal(t, rows, receipts(got))
			for path := range want {
				if !strings.HasSuffix(path, ".sums") && path != "new/a b.zip" && path != "one.zip" { // written in order: sizes come after the data
					assert.Equal(t, want[path], got[path], path)
				}
			}
			assert.Equal(t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got)), "hidden files, too")
			_, stderr, code := run(t, root, "verify", ".", "--recursive")
			assert.Zero(t, code, stderr)
			_, stderr, code = at.do(t, dir, "verify", "--against", at.address+"a.jsonl")
			assert.Zero(t, code, stderr)

			_, stderr, code = at.do(t, dir, "create", at.address+"cut.zip", "bundles")
			assert.Equal(t, 3, code, stderr)
			_, stderr, code = at.do(t, dir, "parts", "split", "bundles/osk-bay.zip", "--part-size", "20k", "--into", at.address+"parts")
			assert.Equal(t, 3, code, stderr)
			_, stderr, code = at.do(t, dir, "parts", "split", "bundles/osk-bay.zip", "--part-size", "90k", "--into", at.address+"parts", "--clash", "replace")
			assert.Zero(t, code, stderr)
			assert.Len(t, leftIn(tree(t, root), "parts/"), 3, "two parts and their list")
			stdout, stderr, code := at.do(t, dir, "create", at.address+"each/{name}.tar.gz", "readings", "bundles", "--each", "--reproducible", "--receipt", at.address+"each.jsonl", "--skip-done")
			assert.Zero(t, code, stderr)
			assert.Contains(t, stdout, "nothing in it has changed")
			_, stderr, code = at.do(t, dir, "create", at.address+"new/a%20b.zip", "bundles", "--clash", "number", "-q")
			assert.Zero(t, code, stderr)
			assert.FileExists(t, filepath.Join(root, "new/a b-2.zip"))
			put(t, filepath.Join(dir, "gone/x.txt"), "packed, and gone")
			_, stderr, code = at.do(t, dir, "create", at.address+"gone.zip", "gone", "--after", "remove", "-q")
			assert.Zero(t, code, stderr)
			assert.NoFileExists(t, filepath.Join(dir, "gone/x.txt"))
			_, stderr, code = at.do(t, dir, "create", at.address+"u.zip", "bundles", "--receipt", kind+".jsonl", "-q")
			assert.Zero(t, code, stderr)
			_, stderr, code = at.do(t, dir, "undo", kind+".jsonl")
			assert.Zero(t, code, stderr)
			assert.NoFileExists(t, filepath.Join(root, "u.zip"))
			for _, args := range [][]string{
				{"create", at.address + "k.zip", "bundles", "--replaced", "kept"},
				{"create", at.address + "k.zip", "bundles", "--report", at.address + "p.html"},
				{"edit", "bundles/osk-bay.zip", "--text", "a=b", "--receipt", at.address + "e.jsonl"},
			} {
				_, stderr, code := run(t, dir, args...)
				assert.Equal(t, 2, code, "%v: %s", args, stderr)
			}
		})
	}
}

// Connections that break or fall silent, either way, are taken up again; what a run leaves that
// was killed goes with the next one.
func TestBrokenElsewhere(t *testing.T) {
	dir := tidewatch(t)
	put(t, filepath.Join(dir, "large"), noise(9_000_000))
	_, stderr, code := run(t, dir, "create", "large.zip", "large")
	require.Zero(t, code, stderr)
	root := hosted(t, dir)
	put(t, filepath.Join(root, "in/large.zip"), readFile(t, filepath.Join(dir, "large.zip")))
	writable(t, root)
	server := startSSH(t, "")
	folder := filepath.ToSlash(root)
	for name, at := range map[string]string{
		"breaks":  between(t, "127.0.0.1:"+server.port, cutting(1_500_000)),
		"silent":  between(t, "127.0.0.1:"+server.port, falling(2_500_000)),
		"at once": between(t, "127.0.0.1:"+server.port, cutting(20_000)),
	} {
		t.Run(name, func(t *testing.T) {
			s := server.through(t, at)
			options := append(s.options, "--idle", "1s", "--retries", "2", "-q")
			_, stderr, code := run(t, dir, append([]string{"extract", s.address + folder + "/in/", "--into", name}, options...)...)
			if name == "at once" { // nothing comes of that
				assert.Equal(t, 8, code, stderr)
				assert.Contains(t, stderr, "lost 3 times in a row")
				_, stderr, code = run(t, dir, append([]string{"create", s.address + folder + "/lost.zip", "large"}, options...)...)
				assert.Equal(t, 10, code, stderr)
				assert.NoFileExists(t, filepath.Join(root, "lost.zip"))
				return
			}
			require.Zero(t, code, stderr)
			assert.Equal(t, readFile(t, filepath.Join(dir, "large")), tree(t, filepath.Join(dir, name))["large/large"])
			_, stderr, code = run(t, dir, append([]string{"create", s.address + folder + "/" + name + ".zip", "large", "--read-back"}, options...)...)
			require.Zero(t, code, stderr)
			_, stderr, code = run(t, root, "verify", name+".zip")
			assert.Zero(t, code, stderr)
		})
	}

	s := server.through(t, between(t, "127.0.0.1:"+server.port, falling(3_000_000)))
	options := append(s.options, "--idle", "10s", "-q")
	killed := exec.Command(program, append([]string{"create", s.address + folder + "/killed.zip", "large"}, options...)...)
	killed.Dir = dir
	require.NoError(t, killed.Start())
	hidden := func() []string {
		found, err := filepath.Glob(filepath.Join(root, ".wide*"))
		require.NoError(t, err)
		return found
	}
	require.Eventually(t, func() bool { return len(hidden()) > 0 }, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, killed.Process.Kill())
	_ = killed.Wait()
	assert.NotEmpty(t, hidden())
	assert.NoFileExists(t, filepath.Join(root, "killed.zip"))
	_, stderr, code = run(t, dir, append([]string{"create", server.address + folder + "/next.zip", "corrections"}, server.options...)...)
	assert.Zero(t, code, stderr)
	assert.Empty(t, hidden())
}

// Who is not known is not trusted, and what the server refuses is said.
func TestRefusedElsewhere(t *testing.T) {
	dir := tidewatch(t)
	root := hosted(t, dir, "bundles")
	server := startSSH(t, "")
	folder := server.address + filepath.ToSlash(root)
	other := filepath.Join(t.TempDir(), "other")
	newKey(t, other)
	host := strings.TrimPrefix(server.address[strings.Index(server.address, "@")+1:], "sftp://")
	empty := filepath.Join(t.TempDir(), "empty")
	put(t, empty, "")
	for name, c := range map[string]struct {
		args []string
		code int
		want string
	}{
		"unknown host":      {[]string{"inspect", folder + "/bundles/", "--identity", server.options[1], "--known-hosts", empty}, 8, "SHA256:"},
		"another key":       {[]string{"inspect", folder + "/bundles/", "--identity", server.options[1], "--known-hosts", server.knows(t, host, other+".pub")}, 8, "has another key"},
		"a key not known":   {[]string{"inspect", folder + "/bundles/", "--identity", other, "--known-hosts", server.options[3]}, 8, "does not let"},
		"no key":            {[]string{"inspect", folder + "/bundles/", "--identity", empty, "--known-hosts", server.options[3]}, 8, "it is no private key"},
		"missing key":       {[]string{"inspect", folder + "/bundles/", "--identity", "none"}, 8, "no such file"},
		"a public key":      {[]string{"inspect", folder + "/bundles/", "--identity", other + ".pub", "--known-hosts", server.options[3]}, 8, "not the one that ends in .pub"},
		"a password in it":  {[]string{"inspect", "sftp://a:b@" + host + "/bundles/"}, 2, "command lines are seen by others"},
		"no user in VAR":    {[]string{"inspect", folder + "/bundles/", "--login-env", "HOME"}, 2, "no user:password in HOME"},
		"nothing there":     {append([]string{"inspect", folder + "/none.zip"}, server.options...), 8, "there is nothing at that address"},
		"below a file":      {append([]string{"create", folder + "/bundles/osk-bay.zip/a.zip", "corrections"}, server.options...), 10, ""},
		"nobody listens":    {[]string{"inspect", "sftp://a@" + free(t) + "/x/", "--retries", "0"}, 8, "there is no answer"},
		"over what is open": {append([]string{"create", folder + "/bundles/osk-bay.zip", "corrections"}, server.options...), 3, "exists already"},
	} {
		_, stderr, code := run(t, dir, c.args...)
		assert.Equal(t, c.code, code, "%s: %s", name, stderr)
		assert.Contains(t, stderr, c.want, name)
		assert.NotContains(t, stderr, "panic", name)
	}
	before := tree(t, root)
	readOnly := startSSH(t, "ForceCommand internal-sftp -R")
	there := readOnly.address + filepath.ToSlash(root)
	for _, args := range [][]string{
		{"create", there + "/new.zip", "corrections"},
		{"create", there + "/bundles/osk-bay.zip", "corrections", "--clash", "replace"},
		{"extract", there + "/bundles/", "--into", "landing", "--after", "move=" + there + "/done/"},
		{"extract", there + "/bundles/", "--into", "landing", "--after", "remove"},
		{"parts", "split", "bundles/osk-bay.zip", "--part-size", "30k", "--into", there + "/bundles"},
	} {
		_, stderr, code := run(t, dir, append(args, readOnly.options...)...)
		assert.Equal(t, 10, code, "%v: %s", args, stderr)
		assert.Contains(t, stderr, "no right to write", args)
	}
	assert.Equal(t, before, tree(t, root))
	if os.Getuid() != 0 {
		t.Skip("what is full is made as root")
	}
	full := filepath.Join(root, "full")
	require.NoError(t, os.Mkdir(full, 0o777))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", full).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	defer exec.Command("umount", full).Run()
	put(t, filepath.Join(dir, "large"), noise(4_000_000))
	_, stderr, code := run(t, dir, append([]string{"create", folder + "/full/a.zip", "large"}, server.options...)...)
	assert.Equal(t, 10, code, stderr)
	assert.Contains(t, stderr, "no space is left on the server")
	assert.Empty(t, tree(t, full))
}

// Ten thousand files in a folder are listed at once.
func TestManyElsewhere(t *testing.T) {
	dir := tidewatch(t)
	root := hosted(t, dir)
	one := readFile(t, filepath.Join(dir, "readings/osk-bay-2026-05-01.zip"))
	put(t, filepath.Join(root, "many/day-1.zip"), one)
	for i := range 10_000 {
		put(t, filepath.Join(root, fmt.Sprintf("many/note-%05d.txt", i)), "")
	}
	writable(t, root)
	for _, kind := range servers {
		t.Run(kind, func(t *testing.T) {
			at := startServer(t, kind, root)
			started := time.Now()
			stdout, stderr, code := at.do(t, dir, "inspect", at.address+"many/", "--totals", "--as", "csv")
			assert.Zero(t, code, stderr)
			assert.Contains(t, stdout, "day-1.zip")
			t.Log(kind, time.Since(started))
		})
	}
}

// Of several runs that keep one receipt at a server, no line is lost.
func TestOneReceiptElsewhere(t *testing.T) {
	dir := tidewatch(t)
	for _, kind := range servers[5:] {
		t.Run(kind, func(t *testing.T) {
			at := startServer(t, kind, hosted(t, dir))
			const runs = 8
			var group sync.WaitGroup
			for n := range runs {
				group.Go(func() {
					_, stderr, code := at.do(t, dir, "extract", "bundles/osk-bay.zip", "--into", filepath.Join(t.TempDir(), "out"), "--receipt", at.address+"r.jsonl", "-q")
					assert.Zero(t, code, "%d: %s", n, stderr)
				})
			}
			group.Wait()
			stdout, stderr, code := at.do(t, dir, "undo", at.address+"r.jsonl", "--list", "--as", "json")
			require.Zero(t, code, stderr)
			assert.Equal(t, runs, strings.Count(stdout, `"archives":1,"files":12,`), stdout)
		})
	}
}
