package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each command that changes many things makes a page, and one that fails says why in it.
func TestReportOfEach(t *testing.T) {
	dir := tidewatch(t)
	for want, args := range map[string][]string{
		"All is well: 1 archive made":       {"create", "x.zip", "readings"},
		"All is well: 5 archives converted": {"convert", "bundles", "--to", "tar", "--into", "new"},
		"All is well: 5 archives verified":  {"verify", "bundles"},
		"there is no such file or folder":   {"verify", "none.zip"},
		"exists already":                    {"create", "tidewatch.txt", "readings", "--format", "zip"},
	} {
		run(t, dir, append(args, "--report", "page.html")...)
		html, err := os.ReadFile(filepath.Join(dir, "page.html"))
		require.NoError(t, err)
		assert.Contains(t, string(html), want)
		require.NoError(t, os.Remove(filepath.Join(dir, "page.html")))
	}
	_, _, code := run(t, dir, "verify", "bundles", "--report", "tidewatch.txt/page.html")
	assert.Equal(t, 10, code)
	_, _, code = run(t, dir, "verify", "bundles", "--report", "")
	assert.Equal(t, 2, code)
}
