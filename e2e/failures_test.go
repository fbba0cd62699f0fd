package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// failing are commands, with SOURCE for what is wrong in each failure.
var failing = []struct{ name, args string }{
	{"extract", "SOURCE --into out"}, {"inspect", "SOURCE"}, {"verify", "SOURCE"}, {"compare", "SOURCE right.zip"}, {"create", "new.zip SOURCE"},
	{"edit", "SOURCE --text n=1"}, {"convert", "SOURCE --to tar --into out"}, {"weigh", "SOURCE"}, {"parts join", "SOURCE --into out/whole"},
}

// failures are what can go wrong, with the source of each; commands that lack an option, or whose
// business it is not, are left out.
var failures = []struct{ what, source, but string }{
	{"a source is missing", "missing.zip", ""},
	{"the file of sources is missing", "--source-list missing", "compare"},
	{"an archive is damaged", "damaged.zip", "inspect compare create edit weigh parts join"},
	{"an archive is locked, and there is no password", "locked.zip", "inspect compare create edit weigh parts join"},
	{"a set is not complete", "set.tar.gz.001", "create weigh"},
	{"nothing is selected", "right.zip --ext none", "edit parts join"},
	{"a path leads out", "unsafe.zip", "inspect compare create edit convert weigh parts join"},
	{"the file of passwords is missing", "right.zip --password-file missing", "create edit weigh parts join"},
	{"the list of sums is missing", "right.zip --check-sums missing", "inspect create edit weigh"},
	{"it exists already", "right.zip --into there", "inspect verify compare edit weigh parts join"},
	{"a file is in the way", "right.zip --into right.zip/x", "inspect verify compare create edit weigh parts join"},
	{"a server does not answer", "http://127.0.0.1:1/right.zip --retries 0", "create edit weigh"},
	{"a server has nothing there", "sftp://HOST/missing.zip", "create edit weigh"},
	{"a server's key is not known", "sftp://HOST/right.zip --known-hosts right.zip.known", "create edit weigh"},
	{"there is no such option", "right.zip --nonsense", ""},
}

// The same failure has the same exit code in all commands: docs/errors.md has the table.
func TestFailuresHaveOneCode(t *testing.T) {
	dir := tidewatch(t)
	for name, from := range map[string]string{"right.zip": "readings/osk-bay-2026-05-01.zip", "damaged.zip": "readings/merrin-deep-2026-05-07.zip", "locked.zip": "locked/gauges.zip", "set.tar.gz.001": "survey/currents.tar.gz.001", "set.tar.gz.003": "survey/currents.tar.gz.003"} {
		data, err := os.ReadFile(filepath.Join(dir, from))
		require.NoError(t, err)
		put(t, filepath.Join(dir, name), string(data))
	}
	pack(t, filepath.Join(dir, "unsafe.zip"), "../x", "1")
	put(t, filepath.Join(dir, "there/right/levels.csv"), "something else")
	put(t, filepath.Join(dir, "there/right.tar"), "something else")
	put(t, filepath.Join(dir, "right.zip.known"), "")
	hosted := ""
	if runtime.GOOS != "windows" { // where the paths of a server are not those of a system
		home := ""
		hosted, home = overSSH(t, dir)
		t.Setenv("HOME", home)
	}
	before := tree(t, dir)
	text := "| what went wrong |"
	for _, c := range failing {
		text += " " + c.name + " |"
	}
	text += "\n|---|" + strings.Repeat("---:|", len(failing)) + "\n"
	for _, f := range failures {
		if strings.Contains(f.source, "://") && hosted == "" {
			continue
		}
		text += "| " + f.what + " |"
		codes := map[int]bool{}
		for _, c := range failing {
			if strings.Contains(f.but, c.name) {
				text += " |"
				continue
			}
			f.source = strings.Replace(f.source, "sftp://HOST", hosted, 1)
			args := strings.Fields(c.name + " " + strings.Replace(c.args, "SOURCE", f.source, 1))
			if strings.Contains(f.source, "--into") {
				args = strings.Fields(c.name + " " + strings.Replace(strings.Replace(c.args, " --into out", "", 1), "SOURCE", f.source, 1))
			}
			if c.name == "create" && f.what == "it exists already" {
				args = []string{"create", "right.zip", "damaged.zip"}
			}
			_, stderr, code := run(t, dir, args...)
			assert.Contains(t, stderr, "✗", args)
			codes[code] = true
			text += fmt.Sprintf(" %d |", code)
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
		}
		text += "\n"
		assert.Len(t, codes, 1, f.what)
	}
	assert.Equal(t, before, tree(t, dir), "nothing has changed")
	if hosted == "" {
		return
	}
	docs, err := os.ReadFile("../docs/errors.md")
	require.NoError(t, err)
	assert.Contains(t, string(docs), text, text)
}
