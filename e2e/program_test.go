// Package e2e tests the built program, on files in temporary folders.
package e2e

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format/zip"
	"widecrate/core/systemtest"
	"widecrate/demo"
)

// program is the path of the built program: WIDECRATE_BUILT, where the tests run where
// nothing can be built.
var program = os.Getenv("WIDECRATE_BUILT")

// work is a folder of all tests of a run.
var work string

func TestMain(m *testing.M) {
	systemtest.InMemory()
	var err error
	if work, err = os.MkdirTemp("", "widecrate-e2e-"); err != nil {
		panic(err)
	}
	if program == "" {
		program = filepath.Join(work, "widecrate.exe") // Windows wants the extension, the others do not mind
		build := exec.Command("go", "build", "-o", program, "../cmd/widecrate")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(string(out))
		}
	}
	code := m.Run()
	os.RemoveAll(work)
	os.Exit(code)
}

// run runs the program in dir and returns what it printed and its exit code.
func run(t *testing.T, dir string, args ...string) (stdout, stderr string, code int) {
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

// demoData is a folder with the demo data, which nobody changes.
var demoData = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(work, "tidewatch")
	return dir, demo.Make(dir)
})

// tidewatch has the demo data in a temporary folder.
func tidewatch(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "tidewatch")
	lay(t, dir)
	return dir
}

// lay copies the demo data to a folder.
func lay(t *testing.T, dir string) {
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

// pack makes an archive of pairs of path and data.
func pack(t *testing.T, path string, pairs ...string) {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b, archive.WriteOptions{})
	for i := 0; i < len(pairs); i += 2 {
		_, err := w.Add(archive.Entry{Path: pairs[i], Size: int64(len(pairs[i+1]))}, strings.NewReader(pairs[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	put(t, path, b.String())
}

func put(t *testing.T, path, data string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
}

// tree reads a folder: content by path; folders end in '/'.
func tree(t *testing.T, dir string) map[string]string {
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
