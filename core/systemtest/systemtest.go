// Package systemtest shows tests what the system they run on can do, by trying it.
package systemtest

import (
	"os"
	"path/filepath"
	"testing"
)

// HasLinks reports whether symbolic links can be made; some systems say so and make
// none.
func HasLinks(t *testing.T) bool {
	t.Helper()
	link := filepath.Join(t.TempDir(), "link")
	if os.Symlink("target", link) != nil {
		return false
	}
	_, err := os.Lstat(link)
	return err == nil
}

// NeedsLinks skips a test where none can be made.
func NeedsLinks(t *testing.T) {
	t.Helper()
	if !HasLinks(t) {
		t.Skip("no symbolic links can be made here")
	}
}
