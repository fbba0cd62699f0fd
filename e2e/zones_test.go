package e2e

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The day of a run is the local one, for names and for choices, on both sides of the line where days begin.
func TestToday(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("TZ is not read there")
	}
	for _, zone := range []string{"Pacific/Kiritimati", "Pacific/Pago_Pago", "UTC"} {
		place, err := time.LoadLocation(zone)
		if err != nil {
			t.Skip(err)
		}
		t.Setenv("TZ", zone)
		dir := t.TempDir()
		now := time.Now().In(place)
		midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, place)
		for name, at := range map[string]time.Time{"new.csv": midnight.Add(5 * time.Second), "old.csv": midnight.Add(-time.Minute)} {
			put(t, filepath.Join(dir, "d", name), name)
			require.NoError(t, os.Chtimes(filepath.Join(dir, "d", name), at, at))
		}
		_, stderr, code := run(t, dir, "create", "a.zip", "d", "--top", "drop")
		require.Zero(t, code, stderr)
		_, stderr, code = run(t, dir, "extract", "a.zip", "--into", "o", "--own-name", "{today}", "--since", "today")
		require.Zero(t, code, stderr)
		if later := time.Now().In(place); later.Day() != now.Day() {
			t.Skip("it is midnight there")
		}
		today := now.Format(time.DateOnly)
		_, stderr, code = run(t, dir, "extract", "a.zip", "--into", "p/{today:yyyy}/x", "--sums", "s-{today}", "--receipt", "r-{today}.jsonl", "--report", "q-{today}.html")
		require.Zero(t, code, stderr)
		for _, path := range []string{"p/" + today[:4] + "/x/a/new.csv", "s-" + today, "r-" + today + ".jsonl", "q-" + today + ".html"} {
			assert.FileExists(t, filepath.Join(dir, path))
		}
		_, stderr, code = run(t, dir, "extract", "a.zip", "--into", "p/{stem}")
		assert.Equal(t, 2, code)
		assert.Contains(t, stderr, "{stem} in")
		_, stderr, code = run(t, dir, "extract", "a.zip", "--into", "p[1]/{mine}")
		assert.Zero(t, code, stderr)
		assert.FileExists(t, filepath.Join(dir, "p[1]", "{mine}", "a", "new.csv"))
		assert.Equal(t, map[string]string{today + "/": "", today + "/new.csv": "new.csv"}, tree(t, filepath.Join(dir, "o")), zone)
	}
}
