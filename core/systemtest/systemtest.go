// Package systemtest shows tests what the system they run on can do, by trying it, what
// lies in its folders, and whether they may take long.
package systemtest

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

// Long skips a test that takes long, or a lot of memory or disk, unless such tests are asked for: the
// variable WIDECRATE_LONG is set.
func Long(t *testing.T, why string) {
	t.Helper()
	if !LongWanted() {
		t.Skipf("left out, because of %s; it runs with: WIDECRATE_LONG=1 go test -run '^%s$' .", why, t.Name())
	}
}

// LongWanted reports whether tests that take long are asked for.
func LongWanted() bool { return os.Getenv("WIDECRATE_LONG") != "" }

// Rounds is how often something random is tried: in a short run, as a rule, and where tests that take
// long are asked for.
func Rounds(short, usual, long int) int {
	switch {
	case testing.Short():
		return short
	case LongWanted():
		return long
	}
	return usual
}

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

// Contents are the files below a folder, by their paths with slashes; of a link, an arrow and
// where it leads.
func Contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	found := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		text, arrow := []byte(nil), ""
		if d.Type()&fs.ModeSymlink != 0 {
			arrow, err = os.Readlink(path)
			arrow = "→ " + arrow
		} else {
			text, err = os.ReadFile(path)
		}
		found[filepath.ToSlash(rel)] = arrow + string(text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}
