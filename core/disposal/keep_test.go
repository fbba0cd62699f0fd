package disposal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	_, err := k.Keep(a, "d/a.csv")
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

}
