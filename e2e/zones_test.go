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
		assert.Equal(t, map[string]string{today + "/": "", today + "/new.csv": "new.csv"}, tree(t, filepath.Join(dir, "o")), zone)
	}
}
