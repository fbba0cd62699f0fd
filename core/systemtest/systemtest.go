// Package systemtest shows tests what the system they run on can do, by trying it, and what
// lies in its folders.
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

// Contents reads the files of a folder, by name.
func Contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	children, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]string{}
	for _, child := range children {
		data, err := os.ReadFile(filepath.Join(dir, child.Name()))
		if err != nil {
			t.Fatal(err)
		}
		found[child.Name()] = string(data)
	}
	return found
}
