package disposal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
)

// A source comes back from where it was moved, and is not taken for another.
func TestReturn(t *testing.T) {
	const one = "7692c3ad3540bb803c020b3aee66cd8887123234ea0c6e7143c0add73ff431ed"
	for name, c := range map[string]struct {
		there    map[string]string // from, and to
		copied   bool
		returned bool
		err      error
	}{
		"all is well":           {map[string]string{"from": "one"}, false, true, nil},
		"the same was there":    {map[string]string{"from": "one"}, true, true, nil},
		"it is back already":    {map[string]string{"to": "one"}, false, false, nil},
		"killed in the middle":  {map[string]string{"from": "one", "to": "one"}, false, true, nil},
		"another is in the way": {map[string]string{"from": "one", "to": "other"}, false, false, fault.Refused},
		"it was changed":        {map[string]string{"from": "two"}, false, false, fault.Refused},
		"it is nowhere":         {nil, false, false, fault.Refused},
	} {
		dir := t.TempDir()
		for at, text := range c.there {
			require.NoError(t, os.WriteFile(filepath.Join(dir, at), []byte(text), 0o666))
		}
		before := systemtest.Contents(t, dir)
		g := NewGround(storage.Sites{}, []string{dir})
		for _, dryRun := range []bool{true, false} {
			returned, err := g.Return(&Source{From: filepath.Join(dir, "to"), To: filepath.Join(dir, "from"), SHA256: one, Copy: c.copied}, dryRun)
			assert.ErrorIs(t, err, c.err, name)
			assert.Equal(t, c.returned, returned, name)
			if dryRun || c.err != nil {
				assert.Equal(t, before, systemtest.Contents(t, dir), name)
			}
		}
		g.Close()
		want := map[string]string{"to": "one"}
		if c.copied {
			want["from"] = "one"
		}
		if c.err == nil {
			assert.Equal(t, want, systemtest.Contents(t, dir), name)
		}
	}
}

// What was seen is acted on, and nothing that came in its place; nothing outside is.
func TestGround(t *testing.T) {
	dir := t.TempDir()
	put := func(at, text string) string {
		path := filepath.Join(dir, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
		return path
	}
	root := filepath.Join(dir, "root")
	a, b, kept, lies := put("root/d/a", "same"), put("root/d/b", "new"), put("root/kept/b", "old"), put("elsewhere/a", "same")
	g := NewGround(storage.Sites{}, []string{root})
	defer g.Close()
	see := func(path string) *Seen {
		s, err := g.See(path)
		require.NoError(t, err)
		return s
	}
	seenA, seenB, seenKept := see(a), see(b), see(kept)
	for _, path := range []string{lies, root, filepath.Join(root, "..", "elsewhere", "a"), root + "/d/../../elsewhere/a", "relative", root + "-other"} {
		_, err := g.See(path)
		assert.ErrorIs(t, err, fault.Refused, path)
	}
	_, err := g.See(filepath.Join(root, "none", "of"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.ErrorIs(t, g.Move(seenA, b), fault.Refused, "something is there")
	require.NoError(t, os.Link(a, filepath.Join(root, "second")))
	assert.ErrorIs(t, g.Replace(see(filepath.Join(root, "second")), seenA), fault.Refused, "the same file by another name")

	require.NoError(t, g.Replace(seenKept, seenB))
	assert.NoFileExists(t, kept)
	assert.ErrorIs(t, g.TakeAway(seenB), fault.Refused, "another has its place")
	require.NoError(t, g.RemoveFolder(filepath.Dir(kept)))
	require.NoError(t, g.RemoveFolder(filepath.Dir(a)), "a folder in which something lies stays")
	require.NoError(t, g.RemoveFolder(root), "the same")
	assert.Equal(t, map[string]string{"root/d/a": "same", "root/d/b": "old", "root/second": "same", "elsewhere/a": "same"}, systemtest.Contents(t, dir))

	systemtest.NeedsLinks(t)
	require.NoError(t, os.Rename(filepath.Join(root, "d"), filepath.Join(root, "aside")))
	require.NoError(t, os.Symlink(filepath.Dir(lies), filepath.Join(root, "d")))
	fresh := NewGround(storage.Sites{}, []string{root})
	defer fresh.Close()
	var failed *fault.Error
	for _, err := range []error{fresh.TakeAway(seenA), fresh.Move(seenA, filepath.Join(root, "x"))} {
		require.True(t, errors.As(err, &failed))
		assert.ErrorIs(t, err, fault.Refused)
	}
	require.NoError(t, fresh.RemoveFolder(filepath.Join(root, "d")), "a link stays")
	assert.FileExists(t, lies)
}
