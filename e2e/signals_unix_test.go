//go:build unix

package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hold stops a process until it is continued or killed.
func hold(t *testing.T, p *os.Process) { require.NoError(t, p.Signal(syscall.SIGSTOP)) }

func interrupt(t *testing.T, p *os.Process) { require.NoError(t, p.Signal(syscall.SIGINT)) }

// One signal ends a run that waits for standard input, whatever arrives then.
func TestInterruptedInput(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "a.zip"), "x", "1")
	for n, command := range []string{"extract - --into out", "extract - --into -", "inspect -", "verify -", "convert - --to tar --into c", "compare a.zip -",
		"create b.zip --stdin-as x", "edit a.zip --stdin-as x", "extract a.zip --entry-list - --into o", "inspect --source-list -"} {
		signal := []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP}[n%3]
		t.Run(command, func(t *testing.T) {
			t.Parallel()
			cmd := exec.Command(program, strings.Fields(command)...)
			cmd.Dir = dir
			in, err := cmd.StdinPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			stuck := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
			defer stuck.Stop()
			_, err = in.Write([]byte("PK"))
			require.NoError(t, err)
			time.Sleep(300 * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(signal))
			_, _ = in.Write([]byte("\x03\x04 and more")) // it may be gone
			var exit *exec.ExitError
			require.ErrorAs(t, cmd.Wait(), &exit)
			assert.Equal(t, 130, exit.ExitCode())
		})
	}
}

// Pipes that are called like files are never opened.
func TestPipesAsFiles(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "in", "a.zip"), "x", "1")
	for _, pipe := range []string{"in/p.001", "in/b.zip", "in/s.sha256", "p", "d/q"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, pipe)), 0o777))
		require.NoError(t, syscall.Mkfifo(filepath.Join(dir, pipe), 0o666))
	}
	for command, want := range map[string]int{"extract in --into out": 0, "parts scan in": 8, "create c.zip --put p=x": 8, "create c.zip d": 6, "extract p --into o": 8,
		"compare p in/a.zip": 8, "extract in/a.zip --into o --receipt p": 3, "extract in/a.zip --into o --skip-done --done-in p": 8, "verify --against p": 7, "parts split p --part-size 10": 8} {
		cmd := exec.Command(program, strings.Fields(command)...)
		cmd.Dir = dir
		stuck := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
		out, err := cmd.CombinedOutput()
		stuck.Stop()
		code := 0
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			code = exit.ExitCode()
		}
		assert.Equal(t, want, code, "%s: %s", command, out)
	}
}
