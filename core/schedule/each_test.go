package schedule

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestShares(t *testing.T) {
	sizes := []int64{5, Long, shareBytes, 7, Long + 1, 9, Long}
	assert.Equal(t, [][]int{{4}, {1}, {6}, {0, 2}, {3, 5}}, Shares(len(sizes), func(i int) int64 { return sizes[i] }))
	small := Shares(150, func(int) int64 { return -1 }) // not known
	assert.Equal(t, []int{shareThings, shareThings, 22}, []int{len(small[0]), len(small[1]), len(small[2])})
	assert.Empty(t, Shares(0, nil))
}

func TestEach(t *testing.T) {
	for _, workers := range []int{1, 3, 50} {
		var running, most atomic.Int32
		var got []int
		_, err := Each(t.Context(), 20, Options{Workers: workers}, func(i int) (int, error) {
			now := running.Add(1)
			for old := most.Load(); now > old && !most.CompareAndSwap(old, now); old = most.Load() {
			}
			time.Sleep(time.Duration(20-i) * 100 * time.Microsecond) // the first takes longest
			running.Add(-1)
			return i, nil
		}, func(i int) { got = append(got, i) })
		assert.NoError(t, err)
		assert.LessOrEqual(t, int(most.Load()), workers)
		assert.Len(t, got, 20)
		assert.IsIncreasing(t, got)
	}
	ctx, cancel := context.WithCancel(t.Context())
	reported := 0
	_, err := Each(ctx, 20, Options{Workers: 2}, func(i int) (int, error) {
		if i >= 8 { // so that not all is done before that is reported
			<-ctx.Done()
		}
		return i, ctx.Err()
	}, func(i int) {
		if reported++; i == 4 {
			cancel()
		}
	})
	assert.ErrorIs(t, err, context.Canceled)
	assert.GreaterOrEqual(t, reported, 5)
	assert.LessOrEqual(t, reported, 10, "what is done then, and no more")

	var got []int
	left, err := Each(t.Context(), 9, Options{Workers: 1, Halt: true}, func(i int) (int, error) {
		if i == 3 {
			return i, errMade
		}
		return i, nil
	}, func(i int) { got = append(got, i) })
	assert.NoError(t, err)
	assert.Equal(t, []int{0, 1, 2, 3}, got)
	assert.Equal(t, []int{4, 5, 6, 7, 8}, left)
}
