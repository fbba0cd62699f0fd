package folder_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/systemtest"
)

// What lies behind a folder that becomes a link, or another folder, while it is walked is neither visited nor reached.
func TestSwappedFolders(t *testing.T) {
	systemtest.NeedsLinks(t)
	for _, swap := range []string{"link", "folder"} {
		dir := t.TempDir()
		for _, at := range []string{"top/a/mine", "other/theirs", "top/z/mine"} {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(at)), 0o777))
			require.NoError(t, os.WriteFile(filepath.Join(dir, at), nil, 0o666))
		}
		top := filepath.Join(dir, "top")
		change := func() {
			require.NoError(t, os.Rename(filepath.Join(top, "a"), filepath.Join(top, "aside")))
			if swap == "link" {
				require.NoError(t, os.Symlink("z", filepath.Join(top, "a")))
			} else {
				require.NoError(t, os.Rename(filepath.Join(dir, "other"), filepath.Join(top, "a")))
			}
		}
		var found []string
		err := folder.Walk(top, func(s *folder.Step) error {
			if found = append(found, filepath.ToSlash(s.Rel)); s.Rel == "a" {
				change()
			}
			return nil
		})
		require.ErrorIs(t, err, fault.Unreadable)
		assert.Equal(t, []string{".", "a"}, found)

		d, err := folder.Descend(top)
		require.NoError(t, err)
		_, err = d.To("a", false)
		if swap == "link" {
			assert.ErrorIs(t, err, folder.ErrLink)
		}
		in, err := d.To("new/deep", true)
		require.NoError(t, err)
		require.NoError(t, in.WriteFile("x", nil, 0o666))
		_, err = d.To("none/deep", false)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		d.Close()
		assert.FileExists(t, filepath.Join(top, "new/deep/x"))
	}
}
