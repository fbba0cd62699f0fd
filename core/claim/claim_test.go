package claim

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
