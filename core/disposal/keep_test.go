package disposal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

// What is kept is there before anything is replaced, under a name of its own, goes where nothing was
// replaced, and comes back only where nothing is.
func TestKeeper(t *testing.T) {
	dir := t.TempDir()
	put := func(at, text string) string {
		path := filepath.Join(dir, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
		return path
	}
	a, b := put("out/d/a.csv", "one"), put("out/d/b.csv", "two")
	k := &Keeper{Folder: filepath.Join(dir, "kept")}
	first, err := k.Keep(a, "d/a.csv")
	require.NoError(t, err)
	k.Settled()
	require.NoError(t, os.Remove(a))
	put("out/d/a.csv", "new")
	second, err := k.Keep(a, "d/a.csv")
	require.NoError(t, err)
	folder, err := k.KeepAll(filepath.Dir(b), "d")
	require.NoError(t, err)
	want := map[string]string{"d/a.csv": "one", "d/a-2.csv": "new", "d-2/a.csv": "new", "d-2/b.csv": "two"}
	assert.Equal(t, want, systemtest.Contents(t, k.Folder))
	assert.Equal(t, filepath.Join(k.Folder, "d-2"), folder)
	k.Back()
	assert.Equal(t, map[string]string{"d/a.csv": "one"}, systemtest.Contents(t, k.Folder))
	assert.NoFileExists(t, second)

	beside := &Keeper{Folder: filepath.Join(dir, "out", ".", "..", "out")} // the folder of the file itself
	there, err := beside.Keep(b, "d/b.csv")
	require.NoError(t, err)
	assert.Equal(t, "b-2.csv", filepath.Base(there), "its own name keeps nothing")
	beside.Back()

	for _, dryRun := range []bool{true, false} {
		_, err = Restore(first, b, dryRun)
		if !dryRun {
			require.ErrorIs(t, err, fault.Refused, "something else is there")
		}
	}
	require.NoError(t, os.Remove(a))
	for _, c := range []struct{ dryRun, restored bool }{{true, true}, {false, true}, {false, false}} {
		restored, err := Restore(first, a, c.dryRun)
		require.NoError(t, err)
		assert.Equal(t, c.restored, restored)
	}
	assert.Equal(t, map[string]string{"d/a.csv": "one", "d/b.csv": "two"}, systemtest.Contents(t, filepath.Join(dir, "out")))
	require.NoError(t, os.Remove(a))
	_, err = Restore(first, a, false)
	assert.ErrorIs(t, err, fault.Refused, "it is nowhere any more")
}

// A source comes back from where it was moved, and is not taken for another.
func TestReturn(t *testing.T) {
	for name, c := range map[string]struct {
		there    map[string]string // from, and to
		returned bool
		err      error
	}{
		"all is well":           {map[string]string{"from": "one"}, true, nil},
		"it is back already":    {map[string]string{"to": "one"}, false, nil},
		"killed in the middle":  {map[string]string{"from": "one", "to": "one"}, true, nil},
		"another is in the way": {map[string]string{"from": "one", "to": "other"}, false, fault.Refused},
		"it was changed":        {map[string]string{"from": "other"}, false, fault.Refused},
		"it is nowhere":         {nil, false, fault.Refused},
	} {
		dir := t.TempDir()
		mark := filepath.Join(dir, "mark")
		require.NoError(t, os.WriteFile(mark, nil, 0o666))
		info, err := os.Stat(mark)
		require.NoError(t, err)
		require.NoError(t, os.Remove(mark))
		for at, text := range c.there {
			require.NoError(t, os.WriteFile(filepath.Join(dir, at), []byte(text), 0o666))
			require.NoError(t, os.Chtimes(filepath.Join(dir, at), info.ModTime(), info.ModTime()))
		}
		before := systemtest.Contents(t, dir)
		for _, dryRun := range []bool{true, false} {
			returned, err := Return(filepath.Join(dir, "from"), filepath.Join(dir, "to"), 3, info.ModTime(), dryRun)
			assert.ErrorIs(t, err, c.err, name)
			assert.Equal(t, c.returned, returned, name)
			if dryRun || c.err != nil {
				assert.Equal(t, before, systemtest.Contents(t, dir), name)
			}
		}
		if c.err == nil {
			assert.Equal(t, map[string]string{"to": "one"}, systemtest.Contents(t, dir), name)
		}
	}
}
