package e2e

import (
	"bytes"
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

	"widecrate/e2e/programtest"
)

// somebody is an ordinary user.
const somebody = 65534

// asSomebody makes a command of the program in dir run as an ordinary user.
func asSomebody(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(dir, "widecrate"), args...)
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: somebody, Gid: somebody}}
	return cmd
}

// Whatever a killed run left, its own or another user's, later runs go on.
func TestLeftoversOfUsers(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	dir, err := os.MkdirTemp("", "widecrate-users-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o777))
	programtest.Install(t, filepath.Join(dir, "widecrate")) // where anybody can reach it
	packEntries(t, filepath.Join(dir, "a.tar"), "x=1 y="+strings.Repeat("2", 1<<20))
	packEntries(t, filepath.Join(dir, "b.tar"), "z=1")
	out := filepath.Join(dir, "out")
	require.NoError(t, os.Mkdir(out, 0o777))
	require.NoError(t, os.Chmod(out, 0o777))
	run := func() string {
		said, err := asSomebody(dir, "extract", "b.tar", "--into", "out").CombinedOutput()
		assert.NoError(t, err, "%s", said)
		return string(said)
	}
	areas := func() []string {
		found, err := filepath.Glob(filepath.Join(out, ".widecrate-*"))
		require.NoError(t, err)
		return found
	}

	// Its own, with a folder that may not be written to.
	data, err := os.ReadFile(filepath.Join(dir, "a.tar"))
	require.NoError(t, err)
	killed := asSomebody(dir, "extract", "-", "--into", "out", "--own-name", "a")
	in, err := killed.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, killed.Start())
	_, err = in.Write(data[:1<<20])
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		said, err := filepath.Glob(filepath.Join(out, ".widecrate-*", "owner"))
		return err == nil && len(said) == 1
	}, 10*time.Second, 10*time.Millisecond)
	locked := filepath.Join(areas()[0], "1", "sealed")
	require.NoError(t, os.MkdirAll(locked, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(locked, "x"), nil, 0o644))
	for _, path := range []string{filepath.Join(locked, "x"), locked, filepath.Dir(locked)} {
		require.NoError(t, os.Chown(path, somebody, somebody))
	}
	require.NoError(t, os.Chmod(locked, 0o555))
	require.NoError(t, killed.Process.Kill())
	_ = killed.Wait()
	assert.Contains(t, run(), "cleared away")
	assert.Empty(t, areas())

	// Another user's, which it may not even look into.
	require.NoError(t, os.MkdirAll(filepath.Join(out, ".widecrate-aaaaaaaaaa", "1"), 0o700))
	assert.Contains(t, run(), "unfinished work of another run")
	assert.Len(t, areas(), 1)

	// A file of another user in the way is no failure of the others.
	require.NoError(t, os.Remove(filepath.Join(out, "b", "z")))
	require.NoError(t, os.WriteFile(filepath.Join(out, "b", "z"), []byte("root's"), 0o600))
	cmd := asSomebody(dir, "extract", "a.tar", "b.tar", "--into", "out")
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	exit, _ := errors.AsType[*exec.ExitError](cmd.Run())
	require.NotNil(t, exit, said.String())
	assert.FileExists(t, filepath.Join(out, "a", "x"))
	assert.True(t, strings.Contains(said.String(), "b.tar"), said.String())
}
