package stage

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/claim"
	"widecrate/core/systemtest"
)

// kill leaves a root as a run does that is killed: nothing is removed, and the
// lock is free.
func kill(t *testing.T, r *Root) {
	r.area.stop()
	r.area.lock.Close()
	t.Cleanup(func() {
		r.area.Folder.Close()
		r.area.parent.Close()
		r.home.Close()
		r.dest.Close()
	})
}

// A merge that was killed at any move is finished by the next run, or taken back
// where its files died with it; one that had not begun to move is cleared away.
func TestKilledMerge(t *testing.T) {
	want := map[string]string{"own/a": "1", "own/b": "new", "own/n/c": "3", "own/z": "z"}
	for _, there := range []map[string]string{{"own/b": "old", "own/z": "z"}, {"own/z": "z"}} {
		for moves := -1; moves <= 3; moves++ {
			dir := t.TempDir()
			plant(t, dir, there)
			root, err := Open(dir, "")
			require.NoError(t, err)
			u, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"b", "new"}, {"n/c", "3"}, {"n/", ""}})
			require.NoError(t, err)
			back := false
			if moves >= 0 {
				u := staged(u)
				where := u.destination()
				require.NoError(t, u.survey(where))
				j, err := u.plan(where)
				require.NoError(t, err)
				j.Back, err = u.markLoose(j)
				require.NoError(t, err)
				require.NoError(t, j.write(root.area, u.id))
				back, j.Moves = j.Back, j.Moves[:moves]
				_, err = u.perform(where, j)
				require.NoError(t, err)
				require.NoError(t, os.Chtimes(filepath.Join(dir, "own/n"), time.Now(), time.Now()))
			}
			kill(t, root)
			next, err := Open(dir, "")
			require.NoError(t, err)
			require.NoError(t, next.Close())
			switch {
			case moves < 0:
				assert.Equal(t, Reclaimed{Cleared: 1}, next.Reclaimed)
				assert.Equal(t, there, systemtest.Contents(t, dir))
			case back:
				assert.Equal(t, Reclaimed{TakenBack: 1, Cleared: 1}, next.Reclaimed)
				assert.Equal(t, there, systemtest.Contents(t, dir), "killed after %d moves", moves)
			default:
				assert.Equal(t, Reclaimed{Finished: 1, Cleared: 1}, next.Reclaimed)
				assert.Equal(t, want, systemtest.Contents(t, dir), "killed after %d moves", moves)
				info, err := os.Stat(filepath.Join(dir, "own/n"))
				require.NoError(t, err)
				assert.WithinDuration(t, when, info.ModTime(), time.Second)
			}
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
	id := staged(u).id
	j := &journal{Moves: []move{{Staged: id, Target: "own", Kept: id + keptSuffix}}}
	require.NoError(t, j.write(root.area, id))
	require.NoError(t, root.home.MoveTo("own", root.area.Handle, id+keptSuffix, false))
	kill(t, root)
	next, err := Open(dir, "")
	require.NoError(t, err)
	require.NoError(t, next.Close())
	assert.Equal(t, map[string]string{"own/a": "new"}, systemtest.Contents(t, dir))
}

// Staging that another run may still hold is never touched.
func TestOnlyTheDeadAreReclaimed(t *testing.T) {
	old := time.Now().Add(-2 * claim.Silence)
	for name, c := range map[string]struct {
		leave   func(t *testing.T, r *Root)
		cleared int
	}{
		"alive":           {func(t *testing.T, r *Root) { t.Cleanup(func() { r.Close() }) }, 0},
		"dead":            {func(t *testing.T, r *Root) { kill(t, r) }, 1},
		"another host":    {func(t *testing.T, r *Root) { disguise(t, r, "elsewhere", r.path); kill(t, r) }, 0},
		"silent for long": {func(t *testing.T, r *Root) { disguise(t, r, "elsewhere", r.path); kill(t, r); age(t, r, old) }, 1},
		"just being made": {func(t *testing.T, r *Root) { kill(t, r); require.NoError(t, r.area.Remove(ownerFile)) }, 0},
		"never made by one that is gone": {func(t *testing.T, r *Root) {
			kill(t, r)
			require.NoError(t, r.area.Remove(ownerFile))
			r.area.name, _, _ = strings.Cut(r.area.name, "-p")
			r.area.name += "-p8388608" // more than there can be
			require.NoError(t, os.Mkdir(filepath.Join(r.path, r.area.name), 0o700))
		}, 1},
		"never quite made": {func(t *testing.T, r *Root) { kill(t, r); require.NoError(t, r.area.Remove(ownerFile)); age(t, r, old) }, 1},
		"half an owner":    {func(t *testing.T, r *Root) { kill(t, r); require.NoError(t, r.area.Rename(ownerFile, ownerDraft)) }, 0},
		"old half an owner": {func(t *testing.T, r *Root) {
			kill(t, r)
			require.NoError(t, r.area.Rename(ownerFile, ownerDraft))
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
	kill(t, first)
	second, err := Open(filepath.Join(dir, "two"), work)
	require.NoError(t, err)
	assert.Zero(t, second.Reclaimed.Cleared, "it was staging for another root")
	require.NoError(t, second.Close())
	inside, err := Open(filepath.Join(dir, "three"), dir)
	require.NoError(t, err)
	kill(t, inside)
	around, err := Open(dir, "")
	require.NoError(t, err)
	assert.Zero(t, around.Reclaimed.Cleared, "it was staging here for another root")
	require.NoError(t, around.Close())
}

func disguise(t *testing.T, r *Root, host, root string) {
	identity, err := r.area.Identity()
	require.NoError(t, err)
	text, err := json.Marshal(owner{Host: host, PID: 1, Root: root, RootID: r.identity, Identity: identity, Key: r.area.key})
	require.NoError(t, err)
	require.NoError(t, r.area.lock.Truncate(0))
	_, err = r.area.lock.WriteAt(text, 0)
	require.NoError(t, err)
}

func age(t *testing.T, r *Root, to time.Time) {
	_ = r.area.Chtimes(ownerFile, to, to)
	require.NoError(t, os.Chtimes(filepath.Join(r.path, r.area.name), to, to))
}

func nothingElse(*testing.T, *Root, *owner, *journal) {}

// planted are areas that somebody else could have made: what is done to a complete one.
var planted = map[string]func(area string) error{
	"a folder of others":  func(area string) error { return os.Chown(area, 65534, 65534) },
	"a folder for all":    func(area string) error { return opened(area, 0o777) },
	"an owner of others":  func(area string) error { return os.Chown(filepath.Join(area, ownerFile), 65534, 65534) },
	"an owner for all":    func(area string) error { return opened(filepath.Join(area, ownerFile), 0o666) },
	"a journal of others": func(area string) error { return os.Chown(filepath.Join(area, "1"+journalSuffix), 65534, 65534) },
	"a journal for all":   func(area string) error { return opened(filepath.Join(area, "1"+journalSuffix), 0o666) },
}

// opened lets everybody write to a file or folder.
func opened(path string, mode os.FileMode) error {
	err := os.Chmod(path, mode)
	if info, missing := os.Stat(path); err == nil && missing == nil && info.Mode().Perm() != mode {
		err = errors.ErrUnsupported
	}
	return err
}

// An area is believed only if it says which folder of the disk it is: whatever
// an archive, a copy of a root or a user put there stays as it is.
func TestPlantedAreas(t *testing.T) {
	old := time.Now().Add(-2 * claim.Silence)
	for name, c := range map[string]struct {
		spoil func(t *testing.T, r *Root, o *owner, j *journal)
		holds bool // the planted move is made
	}{
		"its own":         {func(*testing.T, *Root, *owner, *journal) {}, true},
		"another folder":  {func(_ *testing.T, _ *Root, o *owner, _ *journal) { o.Identity = "12-34.5" }, false},
		"no identity":     {func(_ *testing.T, _ *Root, o *owner, _ *journal) { o.Identity = "" }, false},
		"another's moves": {func(_ *testing.T, _ *Root, _ *owner, j *journal) { j.Key = "GUESSED" }, false},
		"out of the root": {func(_ *testing.T, _ *Root, _ *owner, j *journal) { j.Moves[0].Target = "../b" }, false},
		"out of the area": {func(_ *testing.T, _ *Root, _ *owner, j *journal) { j.Moves[0].Staged = "../own/c" }, false},
		"into another":    {func(_ *testing.T, _ *Root, _ *owner, j *journal) { j.Folders = []string{".Widecrate-x"} }, false},
		"linked owner": {func(t *testing.T, r *Root, _ *owner, _ *journal) {
			require.NoError(t, r.area.Rename(ownerFile, "elsewhere"))
			require.NoError(t, r.area.Symlink("elsewhere", ownerFile))
		}, false},
		"a folder of others": {nothingElse, false}, "a folder for all": {nothingElse, false}, "an owner of others": {nothingElse, false},
		"an owner for all": {nothingElse, false}, "a journal of others": {nothingElse, false}, "a journal for all": {nothingElse, false},
	} {
		t.Run(name, func(t *testing.T) {
			if name == "linked owner" {
				systemtest.NeedsLinks(t)
			}
			if planted[name] != nil && runtime.GOOS == "windows" {
				t.Skip("files have no such owners and rights here")
			}
			dir := t.TempDir()
			plant(t, dir, map[string]string{"own/b": "mine", "own/c": "mine too"})
			root, err := Open(dir, "")
			require.NoError(t, err)
			identity, err := root.area.Identity()
			require.NoError(t, err)
			host, err := os.Hostname()
			require.NoError(t, err)
			o := owner{Host: host, PID: 1, Root: dir, RootID: root.identity, Identity: identity, Key: root.area.key}
			j := journal{Key: root.area.key, Moves: []move{{Staged: "1-0", Target: "own/b", Kept: "1-0-old"}}}
			plant(t, dir, map[string]string{root.area.name + "/1-0": "forged"})
			c.spoil(t, root, &o, &j)
			for file, content := range map[string]any{ownerFile: o, "1" + journalSuffix: j} {
				text, err := json.Marshal(content)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(dir, root.area.name, file), text, 0o600))
			}
			if last := planted[name]; last != nil {
				if err := last(filepath.Join(dir, root.area.name)); err != nil {
					t.Skip("this is not ours to say: ", err)
				}
			}
			kill(t, root)
			age(t, root, old)
			before := systemtest.Contents(t, dir)
			next, err := Open(dir, "")
			require.NoError(t, err)
			require.NoError(t, next.Close())
			if c.holds {
				assert.Equal(t, map[string]string{"own/b": "forged", "own/c": "mine too"}, systemtest.Contents(t, dir))
				return
			}
			assert.Equal(t, before, systemtest.Contents(t, dir))
			assert.Len(t, next.Reclaimed.Left, 1, "it is said")
		})
	}
}

// A user's folder that is only called like an area stays.
func TestFolderCalledLikeAnArea(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{".widecrate-notes/a": "mine"})
	past := time.Now().Add(-2 * claim.Silence)
	require.NoError(t, os.Chtimes(filepath.Join(dir, ".widecrate-notes"), past, past))
	r, err := Open(dir, "")
	require.NoError(t, err)
	assert.Len(t, r.Reclaimed.Left, 1)
	require.NoError(t, r.Close())
	assert.Equal(t, map[string]string{".widecrate-notes/a": "mine"}, systemtest.Contents(t, dir))
}

// A merge that fails and is killed while it takes back what it did is taken back
// by the next run, wherever it stopped; a file that was changed meanwhile stays.
func TestKilledTakingBack(t *testing.T) {
	there := map[string]string{"own/b": "old", "own/z": "z", "own/q": "q"}
	for step := range 10 {
		dir := t.TempDir()
		plant(t, dir, there)
		root, err := Open(dir, "")
		require.NoError(t, err)
		unit, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"b", "new"}, {"n/c", "3"}, {"q", "other"}})
		require.NoError(t, err)
		u := staged(unit)
		where := u.destination()
		require.NoError(t, u.survey(where))
		j, err := u.plan(where)
		require.NoError(t, err)
		done, err := u.perform(where, j)
		require.NoError(t, err)
		want := map[string]string{"own/b": "old", "own/z": "z", "own/q": "q"}
		// The journal is written, and as many of the moves undone.
		saved := *j
		for n := range saved.Moves {
			saved.Moves[n].Mark = mark(root.home, saved.Moves[n].Target)
		}
		saved.Back = true
		require.NoError(t, saved.write(root.area, u.id))
		part := journal{Moves: saved.Moves[max(0, done-step/2):]}
		if step%2 == 0 {
			part.undo(root.area.Folder, where)
		} else if done > step/2 { // half of a move: its staged name is back, its target still there
			m := saved.Moves[done-step/2-1]
			at, err := where.slot(filepath.Dir(m.Target))
			require.NoError(t, err)
			part.undo(root.area.Folder, where)
			_, err = keep(at.dir, filepath.Base(m.Target), root.area.Folder, m.Staged)
			require.NoError(t, err)
		}
		if step == 0 {
			plant(t, dir, map[string]string{"own/a": "edited since"})
			want["own/a"] = "edited since"
		}
		kill(t, root)
		next, err := Open(dir, "")
		require.NoError(t, err)
		require.NoError(t, next.Close())
		assert.Equal(t, Reclaimed{TakenBack: 1, Cleared: 1}, next.Reclaimed)
		assert.Equal(t, want, systemtest.Contents(t, dir), "step %d", step)
	}
}
