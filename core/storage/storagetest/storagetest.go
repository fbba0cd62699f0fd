// Package storagetest holds every kind of place to the one contract of storage.Folder, as testing/fstest does for
// file systems. It is a kit for tests.
package storagetest

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/storage"
)

// Names are some at the limits of what this system can hold.
func Names() []string {
	names := []string{"a b#c%d&e=f", "ä 潮.zip", "100%25.csv", strings.Repeat("n", 200), "-rf", ".hidden"}
	if runtime.GOOS != "windows" {
		names = append(names, `a?b:c"d`)
	}
	return names
}

// Put makes a file.
func Put(t *testing.T, dir storage.Folder, name, text string) {
	t.Helper()
	require.NoError(t, Make(dir, name, text), name)
}

// Make is Put with its error.
func Make(dir storage.Folder, name, text string) error {
	f, err := dir.Create(name, 0o666)
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, text)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Text is what a file holds; empty: there is none.
func Text(t *testing.T, dir storage.Folder, name string) string {
	t.Helper()
	f, err := dir.OpenToRead(name)
	if errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	require.NoError(t, err, name)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err, name)
	return string(text)
}

// Contract holds the folder at a path, which is empty, to what storage.Folder promises, with files of these names. far says
// that it is at a server.
func Contract(t *testing.T, sites storage.Sites, path string, far bool, names []string) {
	dir, err := sites.Open(path)
	require.NoError(t, err)
	defer dir.Close()
	is := func(err, want error) {
		t.Helper()
		assert.ErrorIs(t, err, want)
		if far {
			assert.NotEqual(t, fault.Other, fault.Of(err), "an error of a server has a kind: %v", err)
		}
	}
	t.Run("a name that is free", func(t *testing.T) {
		for _, name := range names {
			Put(t, dir, name, "one "+name)
			is(Make(dir, name, "two"), fs.ErrExist)
			assert.Equal(t, "one "+name, Text(t, dir, name))
			info, err := dir.Lstat(name)
			require.NoError(t, err)
			assert.True(t, info.Mode().IsRegular(), name)
			assert.EqualValues(t, len("one "+name), info.Size(), name)
			assert.Equal(t, far, storage.IsFar(info))
		}
		listed, err := dir.Names()
		require.NoError(t, err)
		assert.ElementsMatch(t, names, ours(listed))
		for _, name := range names {
			info, err := dir.Lstat(name)
			require.NoError(t, err)
			require.NoError(t, dir.Remove(name, info), name)
			is(dir.Remove(name, nil), fs.ErrNotExist)
			_, err = dir.Lstat(name)
			is(err, fs.ErrNotExist)
			_, err = dir.OpenToRead(name)
			is(err, fs.ErrNotExist)
		}
	})
	t.Run("written", func(t *testing.T) {
		f, err := dir.Create("f", 0o666)
		require.NoError(t, err)
		block := bytes.Repeat([]byte("tide"), 100_000)
		for range 3 {
			_, err = f.Write(block)
			require.NoError(t, err)
		}
		_, err = f.WriteAt([]byte("ebb!"), 4)
		require.NoError(t, err)
		part := make([]byte, 8)
		_, err = f.ReadAt(part, 0)
		require.NoError(t, err)
		assert.Equal(t, "tideebb!", string(part))
		require.NoError(t, f.Sync())
		require.NoError(t, f.Close())
		assert.Equal(t, "tideebb!"+string(bytes.Repeat(block, 3)[8:]), Text(t, dir, "f"))
		require.NoError(t, dir.Remove("f", nil))
	})
	t.Run("moved", func(t *testing.T) {
		Put(t, dir, "a", "one")
		Put(t, dir, "b", "two")
		is(dir.Move("a", nil, dir, "b"), fs.ErrExist)
		assert.Equal(t, []string{"one", "two"}, []string{Text(t, dir, "a"), Text(t, dir, "b")})
		is(dir.Move("c", nil, dir, "d"), fs.ErrNotExist)
		seen, err := dir.Lstat("a")
		require.NoError(t, err)
		require.NoError(t, dir.Move("a", seen, dir, "c"))
		require.NoError(t, dir.MoveOver("c", nil, dir, "b"))
		assert.Equal(t, []string{"", "one", ""}, []string{Text(t, dir, "a"), Text(t, dir, "b"), Text(t, dir, "c")})
		require.NoError(t, dir.MoveOver("b", nil, dir, "d"), "nothing has to be there")
		require.NoError(t, dir.Remove("d", nil))
	})
	t.Run("folders", func(t *testing.T) {
		var made atomic.Int32
		var group sync.WaitGroup
		for range 8 { // of several, one makes it
			group.Go(func() {
				if err := dir.MakeFolder("in"); err == nil {
					made.Add(1)
				} else if errors.Is(err, fs.ErrExist) {
					is(err, fs.ErrExist)
				} // a server may also be taken by surprise
			})
		}
		group.Wait()
		assert.Equal(t, int32(1), made.Load())
		is(dir.MakeFolder("in"), fs.ErrExist)
		info, err := dir.Lstat("in")
		require.NoError(t, err)
		assert.True(t, info.IsDir())
		in, err := sites.Open(dir.Path("in"))
		require.NoError(t, err)
		Put(t, in, "f", "one")
		assert.Error(t, dir.RemoveFolder("in"), "it holds something")
		assert.Equal(t, "one", Text(t, in, "f"))
		begun := in.Begun(time.Minute)
		require.NoError(t, begun.Move("f", nil, dir, "f"))
		begun.Close()
		if runtime.GOOS == "windows" { // where nothing is removed that is open
			in.Close()
		}
		require.NoError(t, dir.RemoveFolder("in"))
		is(dir.RemoveFolder("in"), fs.ErrNotExist)
		if runtime.GOOS != "windows" {
			is(Make(in, "g", "late"), fs.ErrNotExist)
			in.Close()
		}
		require.NoError(t, dir.Remove("f", nil))
	})
	listed, err := dir.Names()
	require.NoError(t, err)
	assert.Empty(t, ours(listed))
}

// ours are names without that which a file system has for itself.
func ours(names []string) []string {
	return slices.DeleteFunc(names, func(name string) bool { return name == "lost+found" })
}
