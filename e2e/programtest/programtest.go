// Package programtest is what tests of the built program share: the program itself, built once for
// all tests of a run, the demo data, archives, folders, and servers. It is test code.
package programtest

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/claim"
	"widecrate/core/format/zip"
	"widecrate/core/systemtest"
	"widecrate/demo"
	"widecrate/demo/standin"
)

// program is the path of the built program.
var program string

// work is a folder of all tests of a package.
var work string

// Main builds the program, says where it is, runs the tests, and returns their exit code. TestMain
// calls it. Where nothing can be built, the variable WIDECRATE_BUILT has the path of the program.
func Main(m *testing.M, built *string) int {
	systemtest.InMemory()
	var err error
	if work, err = os.MkdirTemp("", "widecrate-e2e-"); err != nil {
		panic(err)
	}
	defer os.RemoveAll(work)
	if program = os.Getenv("WIDECRATE_BUILT"); program == "" {
		if program, err = build(); err != nil {
			panic(err)
		}
	}
	*built = program
	return m.Run()
}

// build builds the program of this source tree, unless another package of the run did so a moment ago.
func build() (path string, err error) {
	top, err := exec.Command("go", "list", "-f", "{{.Module.Dir}}", "widecrate/cmd/widecrate").Output()
	if err != nil {
		return "", err
	}
	dir, err := os.UserCacheDir()
	if err != nil { // there is no home
		dir = os.TempDir()
	}
	dir = filepath.Join(dir, "widecrate-tests", fmt.Sprintf("%x", sha256.Sum256(top))[:16])
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	for {
		lock, err := claim.Take(filepath.Join(dir, "building"))
		if err == nil {
			defer lock.Release()
			break
		}
		if _, held := errors.AsType[*claim.HeldError](err); !held {
			return "", err
		}
		time.Sleep(20 * time.Millisecond)
	}
	path = filepath.Join(dir, "widecrate.exe") // Windows wants the extension, the others do not mind
	cmd := exec.Command("go", "build", "-C", strings.TrimSpace(string(top)), "-o", path, "./cmd/widecrate")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
}

// demoData is a folder with the demo data, which nobody changes.
var demoData = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(work, "tidewatch")
	return dir, demo.Make(dir)
})

// Run runs the program in dir and returns what it printed and its exit code.
func Run(t *testing.T, dir string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	cmd := exec.Command(program, args...)
	var out, errs bytes.Buffer
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &errs
	err := cmd.Run()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		return out.String(), errs.String(), exit.ExitCode()
	}
	require.NoError(t, err)
	return out.String(), errs.String(), 0
}

// Lay copies the demo data to a folder.
func Lay(t *testing.T, dir string) {
	t.Helper()
	from, err := demoData()
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, os.DirFS(from)))
	arrived := time.Now().Add(-time.Hour)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		return os.Chtimes(path, arrived, arrived)
	}))
}

// Tidewatch has the demo data in a temporary folder.
func Tidewatch(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "tidewatch")
	Lay(t, dir)
	return dir
}

// Pack makes an archive of pairs of path and data.
func Pack(t *testing.T, path string, pairs ...string) {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b, archive.WriteOptions{})
	for i := 0; i < len(pairs); i += 2 {
		_, err := w.Add(archive.Entry{Path: pairs[i], Size: int64(len(pairs[i+1]))}, strings.NewReader(pairs[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	Put(t, path, b.String())
}

func Put(t *testing.T, path, data string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
}

// Tree reads a folder: content by path; folders end in '/'.
func Tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	found := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		rel = filepath.ToSlash(rel)
		if d.IsDir() {
			found[rel+"/"] = ""
			return nil
		}
		data, err := os.ReadFile(path)
		found[rel] = string(data)
		return err
	})
	if !errors.Is(err, fs.ErrNotExist) {
		require.NoError(t, err)
	}
	return found
}

// Noise is so many bytes that do not get smaller.
func Noise(n int) string {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{})
	r.Read(b)
	return string(b)
}

// Serve has a stand-in for a web server with the files of a folder.
func Serve(t *testing.T, s *standin.Server) string {
	t.Helper()
	address, stop, err := s.Start()
	require.NoError(t, err)
	t.Cleanup(stop)
	return address
}

// OverSSH is a server for it, and a home with what lets the program in.
func OverSSH(t *testing.T, dir string) (address, home string) {
	t.Helper()
	home = t.TempDir()
	keys := filepath.Join(home, ".ssh")
	require.NoError(t, os.Mkdir(keys, 0o700))
	server, err := standin.StartSSH(keys)
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	require.NoError(t, os.Rename(server.Identity, filepath.Join(keys, "id_ed25519")))
	require.NoError(t, os.Rename(server.KnownHosts, filepath.Join(keys, "known_hosts")))
	return server.Address + "/" + strings.TrimPrefix(filepath.ToSlash(dir), "/"), home
}

// Install copies the program to a path, where others can run it.
func Install(t *testing.T, path string) {
	t.Helper()
	built, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, built, 0o755))
}
