package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A run that halts delivers all before the first failure and reports that, with any number of
// workers, and names what it did not come to.
func TestHalt(t *testing.T) {
	dir := t.TempDir()
	const archives, bad = 24, 9
	for i := range archives {
		path := filepath.Join(dir, fmt.Sprintf("in/%02d.zip", i))
		pack(t, path, fmt.Sprintf("%02d", i), strings.Repeat("x", 1000*((i*7)%5)))
		if i >= bad && i%3 == 0 {
			put(t, path, "nothing")
		}
	}
	for _, workers := range []string{"1", "2", "8"} {
		for _, how := range []string{"--layout shared", "--nested", "--layout auto"} {
			into := filepath.Join(dir, workers+how)
			out, errs, code := run(t, dir, append(strings.Fields("extract in --halt --as json "+how), "--into", into, "--workers", workers)...)
			assert.Equal(t, 7, code, errs)
			assert.Contains(t, errs, fmt.Sprintf("%d archives were not taken", archives-bad-1))
			lines := linesOf(t, out, "archive")
			for i, line := range lines {
				assert.Equal(t, filepath.Join("in", fmt.Sprintf("%02d.zip", i)), line["archive"])
				assert.Equal(t, i == bad, line["failure"] != nil, line)
				assert.Equal(t, i > bad, line["skipped"] == "halted", line)
			}
			assert.Len(t, lines, archives)
			files := 0
			for path := range tree(t, into) {
				if !strings.HasSuffix(path, "/") {
					files++
				}
			}
			assert.Equal(t, bad, files)
		}
	}
}
