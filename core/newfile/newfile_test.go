package newfile

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

// read reads the files of a folder.
func read(t *testing.T, dir string) map[string]string {
	t.Helper()
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	found := map[string]string{}
	for _, child := range children {
		data, err := os.ReadFile(filepath.Join(dir, child.Name()))
		require.NoError(t, err)
		found[child.Name()] = string(data)
	}
	return found
}

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
		return f.Commit(replace)
	}
	require.NoError(t, make(false, ""))
	assert.Empty(t, read(t, dir))
	require.NoError(t, make(false, "one"))
	assert.ErrorIs(t, make(false, "two"), fault.Refused)
	assert.Equal(t, map[string]string{"a.zip": "one"}, read(t, dir))
	require.NoError(t, make(true, "three"))
	assert.Equal(t, map[string]string{"a.zip": "three"}, read(t, dir))

	late, err := Create(filepath.Join(dir, "b.zip"), false)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.zip"), []byte("somebody else's"), 0o666))
	assert.ErrorIs(t, late.Commit(false), fault.Refused)
	assert.Equal(t, "somebody else's", read(t, dir)["b.zip"])

	_, err = Create(filepath.Join(dir, "missing", "a.zip"), false)
	assert.True(t, errors.Is(err, fault.Unwritable) && errors.Is(err, fs.ErrNotExist))
}
