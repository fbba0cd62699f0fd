package storage_test

import (
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/remote"
	"widecrate/core/storage"
	"widecrate/core/storage/storagetest"
	"widecrate/demo/standin"
	"widecrate/demo/standin/dav"
)

// quick does not wait long before a request is made again.
var quick = remote.Options{Pause: time.Millisecond, Idle: time.Second}

// overSFTP is a folder of this machine, seen through a server.
func overSFTP(t *testing.T, dir string) (sites storage.Sites, address string) {
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	o := quick
	o.Identity, o.KnownHosts = server.Identity, server.KnownHosts
	return storage.Sites{Context: t.Context(), Client: remote.New(o)}, server.Address + "/" + strings.TrimPrefix(filepath.ToSlash(dir), "/")
}

// overDAV is the same through WebDAV; lost says which requests get no answer.
func overDAV(t *testing.T, dir string, lost func(r *http.Request, done bool) bool) (sites storage.Sites, address string) {
	server := httptest.NewServer(&dav.Server{Folder: dir, Lost: lost})
	t.Cleanup(server.Close)
	return storage.Sites{Context: t.Context(), Client: remote.New(quick)}, server.URL
}

func TestContract(t *testing.T) {
	t.Run("a disk", func(t *testing.T) { storagetest.Contract(t, storage.Sites{}, t.TempDir(), false, storagetest.Names()) })
	t.Run("SFTP", func(t *testing.T) {
		sites, at := overSFTP(t, t.TempDir())
		storagetest.Contract(t, sites, at, true, storagetest.Names())
	})
	t.Run("WebDAV", func(t *testing.T) {
		sites, at := overDAV(t, t.TempDir(), nil)
		storagetest.Contract(t, sites, at, true, storagetest.Names())
	})
}

// Whatever becomes of the first answer to a change, before it is done or after, the change is done once, and what is
// not ours stays.
func TestLostAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		method string
		do     func(dir storage.Folder, seen fs.FileInfo) error
		left   map[string]string
	}{
		"created":    {http.MethodPut, func(dir storage.Folder, _ fs.FileInfo) error { return storagetest.Make(dir, "new", "made") }, map[string]string{"a": "one", "b": "two", "new": "made"}},
		"removed":    {http.MethodDelete, func(dir storage.Folder, seen fs.FileInfo) error { return dir.Remove("a", seen) }, map[string]string{"b": "two"}},
		"moved":      {"MOVE", func(dir storage.Folder, seen fs.FileInfo) error { return dir.Move("a", seen, dir, "c") }, map[string]string{"b": "two", "c": "one"}},
		"moved over": {"MOVE", func(dir storage.Folder, seen fs.FileInfo) error { return dir.MoveOver("a", seen, dir, "b") }, map[string]string{"b": "one"}},
	} {
		for _, after := range []bool{false, true} {
			dir := t.TempDir()
			var lost atomic.Bool
			sites, at := overDAV(t, dir, func(r *http.Request, done bool) bool {
				return r.Method == c.method && done == after && lost.CompareAndSwap(false, true)
			})
			open, err := sites.Open(at)
			require.NoError(t, err)
			for name, text := range map[string]string{"a": "one", "b": "two"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666))
			}
			seen, err := open.Lstat("a")
			require.NoError(t, err)
			assert.NoError(t, c.do(open, seen), "%s, lost after it was done: %t", name, after)
			assert.True(t, lost.Load())
			assert.Equal(t, c.left, contents(t, dir), "%s, %t", name, after)
		}
	}
}

// What changed since it was seen is neither removed nor moved, where the server can be asked for that.
func TestStale(t *testing.T) {
	dir := t.TempDir()
	sites, at := overDAV(t, dir, nil)
	open, err := sites.Open(at)
	require.NoError(t, err)
	path := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(path, []byte("one"), 0o666))
	seen, err := open.Lstat("a")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("another"), 0o666))
	assert.ErrorIs(t, open.Remove("a", seen), storage.ErrStale)
	assert.ErrorIs(t, open.Move("a", seen, open, "b"), storage.ErrStale)
	assert.ErrorIs(t, open.MoveOver("a", seen, open, "b"), storage.ErrStale)
	assert.Equal(t, map[string]string{"a": "another"}, contents(t, dir))
}

// A server that is not there is no empty folder.
func TestNoServer(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "http://" + listener.Addr().String()
	require.NoError(t, listener.Close())
	o := quick
	o.Retries = -1
	open, err := storage.Sites{Context: t.Context(), Client: remote.New(o)}.Open(address)
	require.NoError(t, err)
	_, err = open.Lstat("a")
	require.Error(t, err)
	assert.NotErrorIs(t, err, fs.ErrNotExist)
	_, err = open.Names()
	assert.Error(t, err)
}

func TestPaths(t *testing.T) {
	for folder, c := range map[string]struct {
		file, rel string // rel empty: it does not lie there
	}{
		"http://gauges.example/in/":         {"http://gauges.example/in/a/b.zip", "a/b.zip"},
		"http://GAUGES.example/in":          {"http://gauges.example/in/%61.zip", "a.zip"},
		"http://gauges.example//in/./":      {"http://gauges.example//in/./a.zip", "a.zip"},
		"http://gauges.example/in/x":        {"http://gauges.example/in/x/../a.zip", ""},
		"http://gauges.example/in/y":        {"http://gauges.example/in/y/%2e%2e%2fa.zip", ""},
		"http://gauges.example/in/z":        {"http://gauges.example/in/za.zip", ""},
		"https://gauges.example/in":         {"http://gauges.example/in/a.zip", ""},
		"sftp://tide@gauges.example/~/in":   {"sftp://tide@gauges.example/~/in/a.zip", "a.zip"},
		"sftp://ebb@gauges.example/in":      {"sftp://tide@gauges.example/in/a.zip", ""},
		"http://gauges.example/a%2Fb/":      {"http://gauges.example/a%2Fb/c", "c"},
		"http://gauges.example/in?sig=a/b":  {"http://gauges.example/in/a.zip?sig=a/b", "a.zip"},
		filepath.FromSlash("/"):             {filepath.FromSlash("/a/b"), "a/b"},
		filepath.FromSlash("/in"):           {filepath.FromSlash("/in/../a"), ""},
		filepath.FromSlash("/in/"):          {filepath.FromSlash("/in/a"), "a"},
		filepath.FromSlash("/i"):            {filepath.FromSlash("/in/a"), ""},
		filepath.FromSlash("/same"):         {filepath.FromSlash("/same"), ""},
		filepath.FromSlash("/relative/not"): {"relative/not/a", ""},
	} {
		if filepath.Separator == '\\' && folder[0] == '\\' {
			continue // without a drive, they are not absolute
		}
		rel, is := storage.Inside(folder, c.file)
		assert.Equal(t, c.rel, rel, folder)
		assert.Equal(t, c.rel != "", is, folder)
	}
	assert.Equal(t, "http://gauges.example/in?sig=a/b", storage.Dir("http://gauges.example/in/a.zip?sig=a/b"))
	assert.Equal(t, "http://gauges.example/in/b%20c.zip?sig=a/b", storage.Join("http://gauges.example/in?sig=a/b", "b c.zip"))
	assert.Equal(t, "a b.zip", storage.Base("http://gauges.example/in/a%20b.zip?day=5"))
}

// contents are the files of a folder.
func contents(t *testing.T, dir string) map[string]string {
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	all := map[string]string{}
	for _, child := range children {
		text, err := os.ReadFile(filepath.Join(dir, child.Name()))
		require.NoError(t, err)
		all[child.Name()] = string(text)
	}
	return all
}
