package option

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The table has one row for each option, with a line of help that fits; what it
// says of pairs is about options that there are.
func TestTable(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range Table {
		assert.False(t, seen[r.Name], "%s has two rows", r.Name)
		seen[r.Name] = true
		for command, as := range r.For {
			assert.NotEqual(t, As{}, as, "%s of %s", r.Name, command)
		}
		for _, help := range []string{r.Help, r.For["create"].Help, r.For["convert"].Help} {
			assert.LessOrEqual(t, utf8.RuneCountInString(help), 50, "%s: %s", r.Name, help)
			assert.False(t, strings.HasSuffix(help, "."), r.Name)
		}
		assert.NotEmpty(t, r.Help, r.Name)
	}
	for _, c := range Conflicts {
		for _, side := range []string{c.A, c.B} {
			name, _, _ := strings.Cut(side, "=")
			assert.True(t, seen[name], name)
		}
	}
	for _, r := range Table {
		needed, _, _ := strings.Cut(r.Needs, "=")
		assert.True(t, needed == "" || seen[needed], r.Name)
	}
	assert.Panics(t, func() { row("no-such", "") })
}

func TestCheck(t *testing.T) {
	for line, want := range map[string]string{
		"--quiet":                          "",
		"--quiet --verbose":                "--quiet and --verbose do not go together",
		"--quiet --verbose=false":          "",
		"--fresh --layout shared":          "--fresh and --layout shared do not go together",
		"--fresh":                          "",
		"--layout own --fresh":             "",
		"--part-style zip":                 "--part-style needs --part-size",
		"--part-style zip --part-size 10k": "",
		"--into=":                          "it is empty",
		"--workers 0":                      "at least 1",
		"--ext csv,,json":                  "between two commas",
		"--quiet=perhaps":                  "on or off",
		"--ext csv,tsv --ext json":         "",
	} {
		var quiet, verbose, fresh bool
		var into string
		var ext []string
		var size Size
		workers := 2
		layout, style := Either([]string{"own", "shared"}, 1, 2), Either([]string{"numbered", "zip"}, 1, 2)
		cmd := &cobra.Command{Use: "extract", Run: func(*cobra.Command, []string) {}, SilenceErrors: true, SilenceUsage: true}
		set := Of(cmd)
		set.Group("All", func() {
			set.Switch(&quiet, "quiet")
			set.Switch(&verbose, "verbose")
			set.Switch(&fresh, "fresh")
			set.Text(&into, "into")
			set.List(&ext, "ext")
			set.Number(&workers, "workers", 1)
			set.Value(&size, "part-size")
			set.Value(&layout, "layout")
			set.Value(&style, "part-style")
		})
		assert.Nil(t, cmd.Flags().Lookup("quiet"), "none is declared before it is needed")
		Declare(cmd)
		cmd.SetArgs(strings.Fields(line))
		err := cmd.Execute()
		for _, wrong := range Check(cmd) {
			err = wrong
		}
		if want == "" {
			require.NoError(t, err, line)
		} else {
			assert.ErrorContains(t, err, want, line)
		}
		if line == "--ext csv,tsv --ext json" {
			assert.Equal(t, []string{"csv", "tsv", "json"}, ext)
		}
		for _, help := range []string{Help(cmd), Short(cmd)} {
			assert.Contains(t, help, "All:\n")
			assert.Contains(t, help, "--layout own|shared")
		}
	}
}
