package option

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/disposal"
)

func TestSize(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "500": 500, "10k": 10 << 10, "10K": 10 << 10, "2.5M": 5 << 19, "1G": 1 << 30, "1GiB": 1 << 30, "3kb": 3000, "10MB": 10_000_000, "2.5GB": 2_500_000_000, "10 MiB": 10 << 20, "7b": 7, "1t": 1 << 40} {
		var s Size
		require.NoError(t, s.Set(text), text)
		assert.EqualValues(t, want, s, text)
	}
	for _, text := range []string{"", "k", "-1", "1x", "1 kk", "1ib", "9999999P"} {
		assert.Error(t, new(Size).Set(text), text)
	}
}

func TestMoment(t *testing.T) {
	day := time.Date(2026, 5, 1, 0, 0, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"2026-05-01": day, "2026-05-01 12:30": day.Add(12*time.Hour + 30*time.Minute), "2026-05-01T12:30:05": day.Add(12*time.Hour + 30*time.Minute + 5*time.Second),
		"2026-05-01T00:00:00Z": time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC),
	} {
		var m Moment
		require.NoError(t, m.Set(text), text)
		assert.True(t, want.Equal(m.Time), text)
	}
	until := Moment{End: true}
	require.NoError(t, until.Set("2026-05-01"))
	assert.True(t, day.AddDate(0, 0, 1).Add(-time.Second).Equal(until.Time), "a date counts to its end")
	for text, age := range map[string]time.Duration{"36h": 36 * time.Hour, "7d": 7 * 24 * time.Hour, "1.5d": 36 * time.Hour, "3w": 21 * 24 * time.Hour, "90m": 90 * time.Minute} {
		var m Moment
		require.NoError(t, m.Set(text), text)
		assert.WithinDuration(t, time.Now().Add(-age), m.Time, time.Minute, text)
	}
	for _, text := range []string{"", "noon", "d", "-3h", "2026-13-01"} {
		assert.Error(t, new(Moment).Set(text), text)
	}
}

func TestDisposition(t *testing.T) {
	for text, want := range map[string]disposal.After{"keep": {}, "remove": {Disposition: disposal.Remove}, "move=a b": {Disposition: disposal.Move, Folder: "a b"}} {
		var after disposal.After
		require.NoError(t, After{&after}.Set(text))
		after.Into = nil
		assert.Equal(t, want, after)
		assert.Equal(t, text, After{&after}.String())
	}
	for _, text := range []string{"", "move", "move=", "delete"} {
		assert.Error(t, After{&disposal.After{}}.Set(text))
	}
}
