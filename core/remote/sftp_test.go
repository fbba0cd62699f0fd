package remote

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/demo/standin"
)

// overSFTP is a folder of this machine, seen through a server.
func overSFTP(t *testing.T) (folder *Address, dir string, server *standin.SSH) {
	t.Helper()
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	dir = t.TempDir()
	client := New(Options{Identity: server.Identity, KnownHosts: server.KnownHosts, Pause: time.Millisecond, Idle: time.Second})
	folder, err = client.Address(server.Address + filepath.ToSlash("/"+filepath.ToSlash(dir)) + "/")
	require.NoError(t, err)
	return folder, dir, server
}

// What a place can do, sftp can: files are written, read, listed, renamed and removed.
func TestSFTP(t *testing.T) {
	folder, dir, server := overSFTP(t)
	ctx := t.Context()
	data := make([]byte, 3_000_000)
	rand.NewChaCha8([32]byte{3}).Read(data)

	at := folder.Sibling("new/ä b#.bin")
	_, err := at.Create(ctx)
	require.ErrorIs(t, err, ErrMissing, "there is no folder yet")
	require.ErrorIs(t, err, fault.Unwritable)
	require.NoError(t, at.Folder().MakeFolder(ctx))
	f, err := at.Create(ctx)
	require.NoError(t, err)
	for i := 0; i < len(data); i += 70_001 {
		_, err = f.Write(data[i:min(i+70_001, len(data))])
		require.NoError(t, err)
		if i == 70_001*20 {
			server.Drop() // a connection that breaks, with much under way
		}
	}
	copy(data, "patched")
	_, err = f.WriteAt(data[:7], 0)
	require.NoError(t, err)
	start := make([]byte, 10)
	_, err = f.ReadAt(start, 0)
	require.NoError(t, err)
	assert.Equal(t, data[:10], start)
	_, err = f.ReadAt(start, int64(len(data)-5))
	assert.Equal(t, io.EOF, err)
	require.NoError(t, f.Sync())
	require.NoError(t, f.Close())
	there, err := os.ReadFile(filepath.Join(dir, "new", "ä b#.bin"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, there))
	_, err = at.Create(ctx)
	assert.ErrorIs(t, err, ErrThere)

	listed, err := at.Folder().List(ctx)
	require.NoError(t, err)
	require.Len(t, listed, 1)
	now, err := at.Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, now, listed[0], "a list says all that opening would")
	above, err := folder.List(ctx)
	require.NoError(t, err)
	require.Len(t, above, 1)
	assert.True(t, above[0].Folder)

	r, err := at.Open(ctx, 0)
	require.NoError(t, err)
	var got []byte
	take := func(_ int64, p []byte) error {
		if len(got) < 500_000 && len(got)+len(p) >= 500_000 {
			server.Drop()
		}
		got = append(got, p...)
		return nil
	}
	require.NoError(t, r.Fetch(ctx, []Range{{From: 5, To: 1_000_000}, {From: 2_000_000, To: Unknown}}, take))
	assert.True(t, bytes.Equal(append(bytes.Clone(data[5:1_000_000]), data[2_000_000:]...), got))
	stop := errors.New("enough")
	assert.Equal(t, stop, r.Fetch(ctx, []Range{{From: 0, To: Unknown}}, func(int64, []byte) error { return stop }))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new", "ä b#.bin"), data[:100_000], 0o666))
	assert.ErrorIs(t, r.Fetch(ctx, []Range{{From: 0, To: Unknown}}, func(int64, []byte) error { return nil }), ErrChanged)
	r.Close()

	other := folder.Sibling("other")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other"), nil, 0o666))
	assert.ErrorIs(t, at.Rename(ctx, other, false, nil), ErrThere)
	require.NoError(t, at.Rename(ctx, other, true, nil))
	assert.ErrorIs(t, at.Remove(ctx, nil), ErrMissing)
	require.NoError(t, other.Remove(ctx, nil))
	assert.NoFileExists(t, filepath.Join(dir, "other"))
}

// Whoever takes the bytes may take their time: it is the server that must not be silent.
func TestSlowTaker(t *testing.T) {
	folder, dir, server := overSFTP(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), make([]byte, 8<<20), 0o666))
	r, err := folder.Sibling("f").Open(t.Context(), 0)
	require.NoError(t, err)
	defer r.Close()
	got := 0
	require.NoError(t, r.Fetch(t.Context(), []Range{{From: 0, To: Unknown}}, func(_ int64, p []byte) error {
		if got == 0 {
			time.Sleep(1500 * time.Millisecond)
		}
		got += len(p)
		return nil
	}))
	assert.Equal(t, 8<<20, got)
	assert.Equal(t, int64(1), server.Connections.Load())
}

// A key, or a password from where it was named, lets in; nothing else does, and no host that is not
// the one that is known.
func TestLetIn(t *testing.T) {
	folder, _, server := overSFTP(t)
	t.Setenv("HOME", t.TempDir())
	t.Setenv("SSH_AUTH_SOCK", "")
	empty := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	for name, c := range map[string]struct {
		options Options
		want    string // what is wrong; empty: nothing
	}{
		"a key":            {Options{Identity: server.Identity, KnownHosts: server.KnownHosts}, ""},
		"a password":       {Options{Login: "tide:" + standin.Password, KnownHosts: server.KnownHosts}, ""},
		"a wrong password": {Options{Login: "tide:high water", KnownHosts: server.KnownHosts}, "does not let tide in"},
		"neither":          {Options{KnownHosts: server.KnownHosts}, "does not let tide in"},
		"an unknown host":  {Options{Identity: server.Identity, KnownHosts: empty}, "the host is not known; its key is ssh-ed25519 SHA256:"},
		"no list of hosts": {Options{Identity: server.Identity, KnownHosts: server.Identity}, "no list of the keys of hosts"},
		"no key at all":    {Options{Identity: server.KnownHosts, KnownHosts: server.KnownHosts}, "it is no private key"},
	} {
		at, err := New(c.options).Address(folder.String())
		if err == nil {
			_, err = at.List(t.Context())
			tries := server.Connections.Load()
			_, again := at.List(t.Context())
			assert.Equal(t, err, again)
			if c.want != "" && strings.Contains(c.want, "let tide in") {
				assert.Equal(t, tries, server.Connections.Load(), "who is not let in does not knock again: %s", name)
			}
		}
		if c.want == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.ErrorIs(t, err, fault.Unreadable, name)
		assert.ErrorContains(t, err, c.want, name)
	}
}

// What makes sense on another host only is refused.
func TestOnSameHost(t *testing.T) {
	at, err := New(Options{}).Address("sftp://tide@gauges.example/in/a%20b.zip")
	require.NoError(t, err)
	assert.Equal(t, "sftp://tide@gauges.example/in/", at.Folder().String())
	assert.Equal(t, "sftp://tide@gauges.example/in/done/x%23.zip", at.Sibling("done/x#.zip").String())
	for other, same := range map[string]bool{
		"sftp://tide@gauges.example/done/":    true,
		"sftp://tide@GAUGES.example:22/done/": true,
		"sftp://ebb@gauges.example/done/":     false,
		"sftp://tide@gauges.example:23/done/": false,
		"http://gauges.example/done/":         false,
		"done":                                false,
		"sftp://tide:x@gauges.example/done/":  false,
	} {
		_, err := at.OnSameHost(other)
		assert.Equal(t, same, err == nil, other)
	}
}
