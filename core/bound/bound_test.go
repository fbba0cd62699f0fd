package bound

import (
	"bytes"
	"context"
	"hash"
	"hash/crc32"
	"io"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

func TestBudget(t *testing.T) {
	for name, c := range map[string]struct {
		limits Limits
		size   int64
		allows int64
	}{
		"small ones may have any ratio":  {Limits{}, 1000, RatioFloor},
		"large ones have a ratio":        {Limits{}, 1 << 30, DefaultRatio << 30},
		"a ratio of one's own":           {Limits{Ratio: 3}, 1 << 30, 3 << 30},
		"one that is given, small":       {Limits{Ratio: 3}, 1000, 3000},
		"a total":                        {Limits{Total: 5000}, 1 << 30, 5000},
		"a total above the ratio's":      {Limits{Total: math.MaxInt64}, 1000, RatioFloor},
		"a size that nothing multiplies": {Limits{}, math.MaxInt64 / 2, math.MaxInt64},
	} {
		t.Run(name, func(t *testing.T) {
			b := c.limits.Budget(func() int64 { return c.size })
			require.NoError(t, b.Spend(c.allows-1))
			require.NoError(t, b.Check(1))
			require.NoError(t, b.Spend(1))
			assert.ErrorIs(t, b.Spend(1), fault.Unsafe)
		})
	}
	b := Limits{Entries: 10}.Budget(func() int64 { return 1 })
	require.NoError(t, b.Count(10))
	assert.ErrorIs(t, b.Count(1), fault.Unsafe)
}

// The bound holds while data passes, not after; a hole counts where its zeros do.
func TestMeter(t *testing.T) {
	total := func(bytes int64) Meter { return Meter{Budget: Limits{Total: bytes}.Budget(func() int64 { return 1 })} }
	n, err := io.Copy(io.Discard, total(1000).Reader(bytes.NewReader(make([]byte, 1<<20))))
	assert.ErrorIs(t, err, fault.Unsafe)
	assert.True(t, Exceeded(fault.At("x", err)))
	assert.LessOrEqual(t, n, int64(64<<10))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Meter{Context: ctx}.Reader(bytes.NewReader(nil)).Read(nil)
	assert.ErrorIs(t, err, context.Canceled)

	hole := func(m Meter, w io.Writer) error { return m.Writer(w).(archive.HoleWriter).WriteHole(100_000) }
	assert.NoError(t, hole(total(1000), Nowhere))
	var plain bytes.Buffer
	assert.ErrorIs(t, hole(total(1000), &plain), fault.Unsafe)
	require.NoError(t, hole(total(100_000), &plain))
	assert.Equal(t, make([]byte, 100_000), plain.Bytes())
	summed := total(100_000)
	summed.Sums = []hash.Hash{crc32.NewIEEE()}
	require.NoError(t, hole(summed, Nowhere))
	assert.Equal(t, crc32.ChecksumIEEE(make([]byte, 100_000)), summed.Sums[0].(hash.Hash32).Sum32())
	assert.ErrorIs(t, hole(summed, Nowhere), fault.Unsafe)
}
