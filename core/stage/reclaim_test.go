package stage

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kill leaves a root as a run does that is killed: nothing is removed, and the
// lock is free.
func kill(r *Root) {
	close(r.area.done)
	r.area.lock.Close()
}

// A merge that was killed at any move is finished by the next run; one that had
// not begun to move is cleared away.
func TestKilledMerge(t *testing.T) {
	there := map[string]string{"own/b": "old", "own/z": "z"}
	want := map[string]string{"own/a": "1", "own/b": "new", "own/n/c": "3", "own/z": "z"}
	for moves := -1; moves <= 3; moves++ {
		dir := t.TempDir()
		plant(t, dir, there)
		root, err := Open(dir, "")
		require.NoError(t, err)
		u, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"b", "new"}, {"n/c", "3"}})
		require.NoError(t, err)
		if moves >= 0 {
			where := u.destination()
			require.NoError(t, u.survey(where))
			j, err := u.plan(where)
			require.NoError(t, err)
			require.NoError(t, j.write(root.area, u.id))
			j.Moves = j.Moves[:moves]
			_, err = u.perform(where, j)
			require.NoError(t, err)
		}
		kill(root)
		next, err := Open(dir, "")
		require.NoError(t, err)
		require.NoError(t, next.Close())
		if moves < 0 {
			assert.Equal(t, Reclaimed{0, 1}, next.Reclaimed)
			assert.Equal(t, there, tree(t, dir))
		} else {
			assert.Equal(t, Reclaimed{1, 1}, next.Reclaimed)
			assert.Equal(t, want, tree(t, dir), "killed after %d moves", moves)
		}
	}
}

// A swap of folders that was killed between its two moves is finished.
func TestKilledSwap(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{"own/a": "old"})
	root, err := Open(dir, "")
	require.NoError(t, err)
	u, err := begin(root, "own", Rules{Fresh: true}, []thing{{"a", "new"}})
	require.NoError(t, err)
	require.NoError(t, (&journal{Folder: "own", Staged: u.id}).write(root.area, u.id))
	require.NoError(t, root.home.move("own", root.area.handle, u.id+keptSuffix, false))
	kill(root)
	next, err := Open(dir, "")
	require.NoError(t, err)
	require.NoError(t, next.Close())
	assert.Equal(t, map[string]string{"own/a": "new"}, tree(t, dir))
}

// Staging that another run may still hold is never touched.
func TestOnlyTheDeadAreReclaimed(t *testing.T) {
	old := time.Now().Add(-2 * silence)
	for name, c := range map[string]struct {
		leave   func(t *testing.T, r *Root)
		cleared int
	}{
		"alive":            {func(t *testing.T, r *Root) {}, 0},
		"dead":             {func(t *testing.T, r *Root) { kill(r) }, 1},
		"another host":     {func(t *testing.T, r *Root) { disguise(t, r, "elsewhere", r.path); kill(r) }, 0},
		"silent for long":  {func(t *testing.T, r *Root) { disguise(t, r, "elsewhere", r.path); kill(r); age(t, r, old) }, 1},
		"just being made":  {func(t *testing.T, r *Root) { kill(r); require.NoError(t, r.area.Remove(ownerFile)) }, 0},
		"never quite made": {func(t *testing.T, r *Root) { kill(r); require.NoError(t, r.area.Remove(ownerFile)); age(t, r, old) }, 1},
		"half an owner":    {func(t *testing.T, r *Root) { kill(r); require.NoError(t, r.area.WriteFile(ownerFile, nil, 0o600)) }, 0},
		"old half an owner": {func(t *testing.T, r *Root) {
			kill(r)
			require.NoError(t, r.area.WriteFile(ownerFile, nil, 0o600))
			age(t, r, old)
		}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			first, err := Open(dir, "")
			require.NoError(t, err)
			c.leave(t, first)
			second, err := Open(dir, "")
			require.NoError(t, err)
			assert.Equal(t, c.cleared, second.Reclaimed.Cleared)
			_, err = os.Stat(filepath.Join(dir, first.area.name))
			assert.Equal(t, c.cleared == 1, os.IsNotExist(err))
			require.NoError(t, second.Close())
		})
	}
	work, dir := t.TempDir(), t.TempDir()
	first, err := Open(filepath.Join(dir, "one"), work)
	require.NoError(t, err)
	kill(first)
	second, err := Open(filepath.Join(dir, "two"), work)
	require.NoError(t, err)
	assert.Zero(t, second.Reclaimed.Cleared, "it was staging for another root")
	require.NoError(t, second.Close())
}

func disguise(t *testing.T, r *Root, host, root string) {
	text, err := json.Marshal(owner{host, 1, root})
	require.NoError(t, err)
	require.NoError(t, r.area.lock.Truncate(0))
	_, err = r.area.lock.WriteAt(text, 0)
	require.NoError(t, err)
}

func age(t *testing.T, r *Root, to time.Time) {
	_ = r.area.Chtimes(ownerFile, to, to)
	require.NoError(t, os.Chtimes(filepath.Join(r.path, r.area.name), to, to))
}
