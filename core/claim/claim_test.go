package claim

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/place"
	"widecrate/core/storage"
)

func TestTake(t *testing.T) {
	host, err := os.Hostname()
	require.NoError(t, err)
	for _, tt := range []struct {
		name   string
		holder *Holder       // whose file lies there, unlocked
		age    time.Duration // since it was touched
		held   bool
	}{
		{"free", nil, 0, false},
		{"of one that was killed", &Holder{host, 1}, 0, false},
		{"of one on another host", &Holder{"elsewhere", 7}, Silence / 2, true},
		{"of one on another host that is silent", &Holder{"elsewhere", 7}, 2 * Silence, false},
	} {
		path := filepath.Join(t.TempDir(), "name")
		if tt.holder != nil {
			text, err := json.Marshal(tt.holder)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, text, 0o666))
			then := time.Now().Add(-tt.age)
			require.NoError(t, os.Chtimes(path, then, then))
		}
		c, err := Take(path)
		if tt.held {
			var held *HeldError
			require.ErrorAs(t, err, &held, tt.name)
			assert.Equal(t, *tt.holder, held.Holder)
			continue
		}
		require.NoError(t, err, tt.name)
		_, err = Take(path)
		var held *HeldError
		require.ErrorAs(t, err, &held, tt.name)
		assert.Equal(t, Holder{host, os.Getpid()}, held.Holder)
		c.Release()
		children, err := os.ReadDir(filepath.Dir(path))
		require.NoError(t, err)
		assert.Empty(t, children)
	}
	_, err = Take(filepath.Join(t.TempDir(), "missing", "name"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// Of many that take and release the same name, one has it at a time.
func TestOneAtATime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "name")
	var within, takes atomic.Int32
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for range 50 {
				c, err := Take(path)
				if err != nil {
					var held *HeldError
					assert.True(t, errors.As(err, &held), "%v", err)
					continue
				}
				assert.Equal(t, int32(1), within.Add(1))
				takes.Add(1)
				within.Add(-1)
				c.Release()
			}
		})
	}
	group.Wait()
	assert.Positive(t, takes.Load())
	assert.NoFileExists(t, path)
}

// What dead runs left goes, and nothing else does.
func TestDeadRunsAreCleared(t *testing.T) {
	dir := t.TempDir()
	in, err := storage.Sites{}.Open(dir)
	require.NoError(t, err)
	defer in.Close()
	prefix, f, lock, err := Begin(in, 0o666)
	require.NoError(t, err)
	defer lock.Close()
	defer f.Close()
	alive := Hidden(prefix, 0)
	old := time.Now().Add(-2 * Silence)
	ours, taking, theirs := NewRun(), NewRun(), place.StagingPrefix+"2222"+strings.Repeat("a", 10)
	type left struct {
		at    time.Time
		stays bool
	}
	files := map[string]left{
		ours + "-0": {time.Now(), false}, ours + "-1": {time.Now(), false}, ours + "-1-old": {time.Now(), false}, ours + "-1-moved": {time.Now(), true},
		NewRun() + "-3": {time.Now(), true}, // its first may have appeared a moment ago
		NewRun() + "-4": {old, false},
		theirs + "-0":   {time.Now(), true},
		taking + "-1":   {old, true}, taking + "-taking": {old, true}, // set aside, with times of their own
		alive:                  {old, true},
		theirs[:21] + "bbbb-0": {old, false},
		".widecrate-notes-0":   {old, true}, "a-0": {old, true},
	}
	for name, c := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o666))
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), c.at, c.at))
	}
	require.NoError(t, os.Chtimes(filepath.Join(dir, alive), old, old))
	ClearDead(in)
	for name, c := range files {
		_, err = os.Lstat(filepath.Join(dir, name))
		assert.Equal(t, c.stays, err == nil, name)
	}
}

// A file that was begun stays, however often others look for what dead runs left just then.
func TestBegunIsNotCleared(t *testing.T) {
	dir := t.TempDir()
	in, err := storage.Sites{}.Open(dir)
	require.NoError(t, err)
	defer in.Close()
	var group, clearing sync.WaitGroup
	var done atomic.Bool
	for range 4 {
		clearing.Go(func() {
			for !done.Load() {
				cleared.Clear()
				ClearDead(in)
			}
		})
	}
	for range 4 {
		group.Go(func() {
			for range 500 {
				prefix, f, lease, err := Begin(in, 0o666)
				if !assert.NoError(t, err) {
					return
				}
				assert.NoError(t, in.Remove(Hidden(prefix, 0), nil))
				f.Close()
				lease.Close()
			}
		})
	}
	group.Wait()
	done.Store(true)
	clearing.Wait()
}
