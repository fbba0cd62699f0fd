package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/cli/option"
)

// A wrong command line is answered with what was found, what is expected, and something that works.
func TestWrongCommandLines(t *testing.T) {
	for line, want := range map[string]string{
		"extract":                     "no source is named\n  → for example: widecrate extract ",
		"undo":                        "no receipt is named\n  → for example: widecrate undo ",
		"run a.yaml b.yaml":           "2 job files are named where 1 is taken: a.yaml, b.yaml",
		"version x":                   `"x" is one word too many`,
		"convert in":                  "--to is missing, the format of the new archives: one of bzip2, ",
		"extract in --ext":            "--ext: its value is missing: it is written --ext LIST",
		"extract in --dest out":       "there is no option --dest; here it is --into",
		"extract in --drpo x":         "the nearest is --drop",
		"extract in --list":           "here it is widecrate inspect",
		"extract in --zzz":            "there is no option --zzz\n",
		"extract in --clash rename":   "here it is number",
		"create a.zip b --force":      "here it is --clash replace",
		"find --help":                 `there is no command "find"; here it is inspect`,
		"help nope":                   `there is no command "nope"`,
		"extrcat":                     "the nearest is extract",
		"parts find":                  `there is no command "find"` + "\n",
		"extract in --since 2026-5-1": "it must be a date",
	} {
		var stdout, stderr bytes.Buffer
		assert.Equal(t, 2, Main(strings.Fields(line), &stdout, &stderr), line)
		assert.Contains(t, stderr.String(), want, line)
		assert.Empty(t, stdout.String(), line)
	}
}

// What general words stand for is there, and none of them is a word of ours.
func TestGeneralWords(t *testing.T) {
	root := wholeRoot()
	options := map[string]bool{}
	var look func(cmd *cobra.Command)
	look = func(cmd *cobra.Command) {
		for word, ours := range optionWords {
			for _, one := range ours {
				name, value, _ := strings.Cut(strings.TrimPrefix(one, "--"), " ")
				if f := cmd.Flags().Lookup(name); f != nil && (value == "" || option.Put(f, value) == nil) {
					options[word] = cmd.Flags().Lookup(word) == nil
				}
			}
		}
		for _, below := range cmd.Commands() {
			look(below)
		}
	}
	look(root)
	for word, ours := range optionWords {
		if command, is := strings.CutPrefix(ours[0], "widecrate "); is {
			found, _, err := root.Find([]string{command})
			options[word] = err == nil && found != root
		}
		assert.True(t, options[word], word)
	}
	for word, ours := range commandWords {
		found, left, err := root.Find(strings.Fields(ours))
		require.NoError(t, err, word)
		assert.True(t, found != root && len(left) == 0, word)
		_, left, _ = root.Find([]string{word})
		assert.NotEmpty(t, left, "%s is a command", word)
	}
}
