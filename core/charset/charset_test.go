package charset

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Names of several languages, in the encoding that their systems had, are among the readings, and
// before those of signs.
func TestReadings(t *testing.T) {
	for name, encodings := range map[string][]string{
		"küste/pegelstände.csv": {"cp437", "cp850", "windows-1252"},
		"přístav/výška.csv":     {"cp852", "windows-1250"},
		"уровень/прилив.csv":    {"cp866", "windows-1251", "koi8-r"},
		"潮位/高潮.csv":             {"cp932", "cp936", "cp950"},
		"조위/만조.csv":             {"cp949"},
	} {
		for _, in := range encodings {
			var raw string
			for _, c := range candidates {
				if c.name == in {
					var err error
					raw, err = c.NewEncoder().String(name)
					require.NoError(t, err, in)
				}
			}
			require.True(t, InDoubt(raw), in)
			found := -1
			readings := Readings([]string{"plain.csv", raw})
			for i, r := range readings {
				for _, e := range r.Encodings {
					if e == in {
						require.Equal(t, []string{"plain.csv", name}, r.Names)
						found = i
					}
				}
			}
			assert.GreaterOrEqual(t, found, 0, "%s in %s", name, in)
			assert.LessOrEqual(t, found, 6, "%s in %s: %v", name, in, readings)
		}
	}
	assert.False(t, InDoubt("küste.csv"))
	assert.Len(t, Readings([]string{"a"}), 1, "plain names are the same in all")
}
