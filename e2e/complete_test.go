package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// In the shells themselves: each is given our script and asked what a command line
// can go on with. Bash starts without its completion package.
var shells = map[string]struct {
	args  []string
	words func(line []string) string // prints what the line can go on with
}{
	"bash": {[]string{"--noprofile", "--norc"}, func(line []string) string {
		quoted := "'" + strings.Join(line, "' '") + "'"
		return "COMP_WORDS=(" + quoted + ") COMP_CWORD=$((${#COMP_WORDS[@]} - 1)) COMP_TYPE=9 COMP_LINE='" + strings.Join(line, " ") + "' COMP_POINT=${#COMP_LINE}\n" +
			"__start_widecrate\nprintf '%s\\n' \"${COMPREPLY[@]}\"\n"
	}},
	"zsh": {[]string{"-f"}, func(line []string) string {
		return "_describe() { print -l -- ${(M)completions:#${words[-1]}*} }\nwords=('" + strings.Join(line, "' '") + "') CURRENT=${#words}\n_widecrate\n"
	}},
	"fish": {[]string{"--no-config"}, func(line []string) string {
		return "complete -C '" + strings.Join(line, " ") + "'\n"
	}},
	"pwsh": {[]string{"-NoProfile", "-NonInteractive"}, func(line []string) string {
		text := strings.Join(line, " ")
		return "(TabExpansion2 -inputScript '" + text + "' -cursorColumn '" + text + "'.Length).CompletionMatches.ListItemText\n"
	}},
}

func TestCompletion(t *testing.T) {
	dir, bin := tidewatch(t), t.TempDir()
	built, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(bin, "widecrate"), built, 0o777))
	lines := map[string]struct {
		line []string
		want []string
	}{
		"commands": {[]string{"widecrate", "ver"}, []string{"verify", "version"}},
		"words":    {[]string{"widecrate", "extract", "--layout", ""}, []string{"own", "shared", "auto"}},
		"formats":  {[]string{"widecrate", "convert", "--to", "tar.z"}, []string{"tar.zst", "tar.zz"}},
		"split":    {[]string{"widecrate", "convert", "--to", "=", "tar.z"}, []string{"tar.zst", "tar.zz"}},
		"entries":  {[]string{"widecrate", "extract", "bundles/osk-bay.zip", "--entry", "may/osk-bay-2026-05-1"}, []string{"may/osk-bay-2026-05-10.zip", "may/osk-bay-2026-05-11.zip", "may/osk-bay-2026-05-12.zip"}},
		"folders":  {[]string{"widecrate", "edit", "readings/osk-bay-2026-05-01.zip", "--remove", "c"}, []string{"calibration.json", "charts/"}},
	}
	for shell, s := range shells {
		t.Run(shell, func(t *testing.T) {
			path, err := exec.LookPath(shell)
			if err != nil {
				t.Skip(shell + " is not here")
			}
			script, stderr, code := run(t, dir, "completion", map[string]string{"pwsh": "powershell"}[shell]+strings.TrimPrefix(shell, "pwsh"))
			require.Equal(t, 0, code, stderr)
			if shell == "zsh" {
				script = "compdef() { }\n" + script
			}
			for name, c := range lines {
				if shell != "bash" && slices.Contains(c.line, "=") { // which others do not split
					continue
				}
				file := filepath.Join(t.TempDir(), "ask")
				if shell == "pwsh" {
					file += ".ps1"
				}
				put(t, file, script+"\n"+s.words(c.line))
				cmd := exec.Command(path, append(s.args, file)...)
				cmd.Dir = dir
				cmd.Env = append(os.Environ(), "PATH="+bin+string(filepath.ListSeparator)+os.Getenv("PATH"))
				out, err := cmd.Output()
				require.NoError(t, err, string(out))
				var got []string
				for line := range strings.Lines(string(out)) {
					if words := strings.Fields(strings.ReplaceAll(line, ":", " ")); len(words) > 0 { // behind it: what it is
						got = append(got, words[0])
					}
				}
				assert.ElementsMatch(t, c.want, got, "%s: %s", name, out)
			}
		})
	}
}
