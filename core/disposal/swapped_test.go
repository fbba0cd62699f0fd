package disposal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/systemtest"
)

// A folder that was swapped only goes when the new one is at its place.
func TestSwapped(t *testing.T) {
	for name, c := range map[string]struct {
		there string // at the place: new, other, or nothing
		kept  bool
		left  map[string]string
	}{
		"all is well":            {"new", false, map[string]string{"out/own/of": "new"}},
		"the new one went":       {"", false, map[string]string{"out/own/of": "old"}},
		"another took its place": {"other", true, map[string]string{"area/1/of": "old", "out/own/of": "other"}},
	} {
		dir := t.TempDir()
		put := func(at, text string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, at), 0o777))
			require.NoError(t, os.WriteFile(filepath.Join(dir, at, "of"), []byte(text), 0o666))
		}
		put("area/1", "old")
		put("new", "new")
		require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o777))
		open := func(at string) *folder.Folder {
			root, err := os.OpenRoot(dir)
			require.NoError(t, err)
			t.Cleanup(func() { root.Close() })
			f, err := folder.Open(root, at)
			require.NoError(t, err)
			t.Cleanup(func() { f.Close() })
			return f
		}
		identity, err := open("new").Identity()
		require.NoError(t, err)
		switch c.there {
		case "new":
			require.NoError(t, os.Rename(filepath.Join(dir, "new"), filepath.Join(dir, "out/own")))
		case "other":
			put("out/own", "other")
		}
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "new")))
		kept, err := Swapped(open("area"), "1", open("out"), "own", identity)
		if c.there != "new" {
			require.ErrorIs(t, err, fault.Unwritable, name)
		} else {
			require.NoError(t, err, name)
		}
		assert.Equal(t, c.kept, kept, name)
		assert.Equal(t, c.left, systemtest.Contents(t, dir), name)
	}
}
