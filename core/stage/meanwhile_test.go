package stage

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

// A file that appears between the look and the moves is looked at as well, by
// every rule.
func TestFileAppearsMeanwhile(t *testing.T) {
	for rule, want := range map[Clash]struct {
		b       string
		results []Action
		kind    fault.Kind
	}{
		Refuse: {"theirs", nil, fault.Refused}, Skip: {"theirs", []Action{Added, Skipped}, 0}, Replace: {"ours", []Action{Added, Replaced}, 0},
		Newer: {"theirs", []Action{Added, Skipped}, 0}, Number: {"theirs", []Action{Added, Added}, 0},
	} {
		dir := t.TempDir()
		plant(t, dir, map[string]string{"own/x": "x"})
		root, err := Open(dir, "")
		require.NoError(t, err)
		u, err := begin(root, "own", Rules{Clash: rule}, []thing{{"a", "1"}, {"b", "ours"}})
		require.NoError(t, err)
		where := staged(u).destination()
		require.NoError(t, staged(u).survey(where))
		plant(t, dir, map[string]string{"own/b": "theirs"})
		require.ErrorIs(t, staged(u).move(where), fs.ErrExist)
		assert.Equal(t, "theirs", systemtest.Contents(t, dir)["own/b"])
		assert.NotContains(t, systemtest.Contents(t, dir), "own/a")
		results, err := u.Commit()
		if want.kind != fault.Other {
			require.ErrorIs(t, err, want.kind)
			require.NoError(t, u.Discard())
		} else {
			require.NoError(t, err, "rule %d", rule)
			for i, r := range results {
				assert.Equal(t, want.results[i], r.Action)
			}
			assert.Equal(t, "1", systemtest.Contents(t, dir)["own/a"])
		}
		assert.Equal(t, want.b, systemtest.Contents(t, dir)["own/b"], "rule %d", rule)
		if rule == Number {
			assert.Equal(t, "ours", systemtest.Contents(t, dir)["own/b-2"])
		}
		require.NoError(t, root.Close())
	}
}

// A folder that appears while the unit is staged is merged with, not replaced.
func TestFolderAppearsMeanwhile(t *testing.T) {
	dir := t.TempDir()
	root, err := Open(dir, "")
	require.NoError(t, err)
	u, err := begin(root, "own", Rules{}, []thing{{"a", "1"}, {"d/b", "2"}})
	require.NoError(t, err)
	plant(t, dir, map[string]string{"own/d/x": "x"})
	_, err = u.Commit()
	require.NoError(t, err)
	require.NoError(t, root.Close())
	assert.Equal(t, map[string]string{"own/a": "1", "own/d/b": "2", "own/d/x": "x"}, systemtest.Contents(t, dir))
}

// The folder of a unit appears after it was begun, with files of its names: the clash rule
// holds as if it had been there, however the unit was staged.
func TestFolderAppears(t *testing.T) {
	things := []thing{{"a/x", "new"}, {"b/x", "new"}, {"c/y", "new"}}
	for _, gathered := range []bool{false, true} {
		for rule, want := range map[Clash]map[string]string{
			Replace: {"own/a/x": "new", "own/b/x": "new", "own/c/y": "new"},
			Skip:    {"own/a/x": "mine", "own/b/x": "mine too", "own/c/y": "new"},
			Refuse:  {"own/a/x": "mine", "own/b/x": "mine too"},
		} {
			dir := t.TempDir()
			root, err := Open(dir, "")
			require.NoError(t, err)
			var u Unit
			if gathered {
				g := root.Gather()
				items, numbers := make([]Item, len(things)), make([]int, len(things))
				for i, it := range things {
					items[i], numbers[i] = Item{archive.Entry{Path: it.path, Size: int64(len(it.data)), Modified: when}, it.path}, i
					require.NoError(t, g.Stage(i, &items[i], func(w io.Writer) error { _, err := io.WriteString(w, it.data); return err }))
				}
				u, err = g.Complete("own", items, numbers, Rules{Clash: rule})
				require.NoError(t, err)
			} else {
				u, err = begin(root, "own", Rules{Clash: rule}, things)
				require.NoError(t, err)
			}
			plant(t, dir, map[string]string{"own/a/x": "mine", "own/b/x": "mine too"})
			_, err = u.Commit()
			assert.Equal(t, rule == Refuse, errors.Is(err, fault.Refused), "%v", err)
			require.NoError(t, u.Discard())
			require.NoError(t, root.Close())
			assert.Equal(t, want, systemtest.Contents(t, dir), "gathered: %v, rule %v", gathered, rule)
		}
	}
}

// What is put into a folder that is no longer at its place is not there.
func TestRootIsSwapped(t *testing.T) {
	systemtest.NeedsLinks(t) // where a folder that is open can be moved
	dir := t.TempDir()
	root, err := Open(filepath.Join(dir, "out"), "")
	require.NoError(t, err)
	u, err := begin(root, ".", Rules{}, []thing{{"a", "1"}, {"b", "2"}})
	require.NoError(t, err)
	outer, err := Open(dir, "")
	require.NoError(t, err)
	fresh, err := begin(outer, "out", Rules{Fresh: true}, []thing{{"x", "1"}})
	require.NoError(t, err)
	_, err = fresh.Commit()
	require.ErrorIs(t, err, fault.Refused, "another run is at work in it")
	require.NoError(t, os.Rename(filepath.Join(dir, "out"), filepath.Join(dir, "away")))
	_, err = fresh.Commit()
	require.NoError(t, err)
	_, err = u.Commit()
	require.ErrorIs(t, err, fault.Unwritable)
	require.NoError(t, outer.Close())
	_ = root.Close()
}
