package newfile

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
)

func TestCreate(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.zip")
	make := func(replace bool, data string) error {
		f, err := Create(path, replace)
		if err != nil {
			return err
		}
		_, err = io.WriteString(f, data)
		require.NoError(t, err)
		if data == "" {
			return f.Discard()
		}
		return f.Commit()
	}
	require.NoError(t, make(false, ""))
	assert.Empty(t, systemtest.Contents(t, dir))
	require.NoError(t, make(false, "one"))
	assert.ErrorIs(t, make(false, "two"), fault.Refused)
	assert.Equal(t, map[string]string{"a.zip": "one"}, systemtest.Contents(t, dir))
	require.NoError(t, make(true, "three"))
	assert.Equal(t, map[string]string{"a.zip": "three"}, systemtest.Contents(t, dir))

	late, err := Create(filepath.Join(dir, "b.zip"), false)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.zip"), []byte("somebody else's"), 0o666))
	assert.ErrorIs(t, late.Commit(), fault.Refused)
	assert.Equal(t, "somebody else's", systemtest.Contents(t, dir)["b.zip"])

	// What it would replace was replaced by somebody else meanwhile.
	first, err := Create(filepath.Join(dir, "a.zip"), true)
	require.NoError(t, err)
	second, err := Create(filepath.Join(dir, "a.zip"), true)
	require.NoError(t, err)
	_, err = io.WriteString(second, "an edit")
	require.NoError(t, err)
	require.NoError(t, second.Commit())
	assert.ErrorIs(t, first.Commit(), fault.Refused)
	assert.Equal(t, map[string]string{"a.zip": "an edit", "b.zip": "somebody else's"}, systemtest.Contents(t, dir))

	// A folder that is made for it goes again with it.
	_, err = Create(filepath.Join(dir, "a.zip", "c.zip"), false)
	assert.ErrorIs(t, err, fault.Unwritable)
	for range 2 {
		made, err := Create(filepath.Join(dir, "d", "e", "c.zip"), false)
		require.NoError(t, err)
		require.NoError(t, made.Discard())
		assert.NoDirExists(t, filepath.Join(dir, "d"))
	}
}

// Several files appear together or not at all, and what they would have replaced
// is then as it was.
func TestCommitIsAllOrNone(t *testing.T) {
	for _, replace := range []bool{false, true} {
		dir := t.TempDir()
		there := map[string]string{"b": "old b"}
		if replace {
			there["a"] = "old a"
		}
		for name, data := range there {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o666))
		}
		n, err := Sites{}.CreateIn(dir)
		require.NoError(t, err)
		for _, data := range []string{"new a", "new b", "new c"} {
			f, err := n.Next()
			require.NoError(t, err)
			_, err = io.WriteString(f, data)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}
		if replace { // the last one vanishes: its move fails after the others
			require.NoError(t, os.Remove(filepath.Join(dir, n.hidden[2])))
		}
		for name := range there {
			if old, err := disposal.Look(storage.Sites{}, filepath.Join(dir, name)); replace && assert.NoError(t, err) {
				n.Over(old)
			}
		}
		require.Error(t, n.Commit([]string{"a", "b", "c"}))
		assert.Equal(t, there, systemtest.Contents(t, dir))
	}
}
