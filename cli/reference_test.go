package cli

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/fault"
)

// update writes what TestReference compares: go test ./cli -run TestReference -update
var update = flag.Bool("update", false, "write the reference")

// The short help of each command has all of its options, on a screen and a half.
func TestShortHelp(t *testing.T) {
	var look func(cmd *cobra.Command)
	look = func(cmd *cobra.Command) {
		short := option.Short(cmd)
		lines := strings.Split(short, "\n")
		assert.LessOrEqual(t, len(lines), 72, cmd.CommandPath())
		for _, line := range lines {
			assert.LessOrEqual(t, show.Width(line), 80, line)
		}
		option.Each(cmd, func(string) {}, func(_ string, f *pflag.Flag) {
			assert.Regexp(t, "--"+f.Name+"\\b", short, cmd.CommandPath())
		})
		for _, below := range cmd.Commands() {
			look(below)
		}
	}
	look(newRoot(&streams{out: show.NewScreen(nil), err: show.NewScreen(nil)}))
}

// The pages of the reference and the table of errors are what the table of options and
// the kinds of failure say.
func TestReference(t *testing.T) {
	root := newRoot(&streams{out: show.NewScreen(nil), err: show.NewScreen(nil)})
	pages := map[string]string{"../docs/errors.md": errorTable(t)}
	var add func(cmd *cobra.Command)
	add = func(cmd *cobra.Command) {
		name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
		pages["../docs/reference/"+name+".md"] = markdown(cmd)
		pages["../docs/man/"+name+".1"] = manual(cmd)
		for _, below := range cmd.Commands() {
			if below.IsAvailableCommand() {
				add(below)
			}
		}
	}
	add(root)
	for path, text := range pages {
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
			require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
		}
		written, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.True(t, text == strings.ReplaceAll(string(written), "\r\n", "\n"), "%s is old: go test ./cli -run TestReference -update", path)
	}
	for _, pattern := range []string{"../docs/reference/*", "../docs/man/*"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, path := range files {
			assert.Contains(t, pages, filepath.ToSlash(path), "there is no such command any more")
		}
	}
	man, err := exec.LookPath("man")
	if err != nil {
		t.Skip("man is not installed: the pages are not checked by it")
	}
	for path := range pages {
		if filepath.Ext(path) == ".1" {
			cmd := exec.Command(man, "--warnings", "-E", "UTF-8", "-l", path)
			cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "MANWIDTH=80")
			var warnings strings.Builder
			cmd.Stderr = &warnings
			require.NoError(t, cmd.Run(), path)
			assert.Empty(t, warnings.String(), path)
		}
	}
}

// markdown is the page of a command.
func markdown(cmd *cobra.Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n\n```\n%s\n```\n", cmd.CommandPath(), long(cmd), cmd.UseLine())
	if cmd.HasExample() {
		fmt.Fprintf(&b, "\n## Examples\n\n```sh\n%s\n```\n", unindented(cmd.Example))
	}
	if cmd.HasAvailableSubCommands() {
		b.WriteString("\n## Commands\n\n| command | does |\n|---|---|\n")
		for _, below := range cmd.Commands() {
			if below.IsAvailableCommand() {
				name := strings.ReplaceAll(below.CommandPath(), " ", "-")
				fmt.Fprintf(&b, "| [%s](%s.md) | %s |\n", below.Name(), name, below.Short)
			}
		}
	}
	option.Each(cmd, func(title string) { fmt.Fprintf(&b, "\n## %s\n\n| option | does |\n|---|---|\n", title) },
		func(name string, f *pflag.Flag) {
			fmt.Fprintf(&b, "| `%s` | %s |\n", strings.ReplaceAll(name, "|", "\\|"), strings.ReplaceAll(option.Text(f), "|", "\\|"))
		})
	return b.String()
}

// manual is the same for man (man-pages(7)).
func manual(cmd *cobra.Command) string {
	roff := strings.NewReplacer(`\`, `\e`, "-", `\-`, "\n.", "\n\\&.", "\n'", "\n\\&'", "…", "...")
	var b strings.Builder
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	fmt.Fprintf(&b, ".TH %s 1 \"\" \"Wide Crate\" \"User Commands\"\n.nh\n.ad l\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), roff.Replace(name), roff.Replace(cmd.Short))
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B %s\n.SH DESCRIPTION\n%s\n", roff.Replace(cmd.UseLine()), strings.ReplaceAll(roff.Replace(long(cmd)), "\n\n", "\n.PP\n"))
	if cmd.HasExample() {
		fmt.Fprintf(&b, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff.Replace(unindented(cmd.Example)))
	}
	option.Each(cmd, func(title string) { fmt.Fprintf(&b, ".SH %s\n", strings.ToUpper(title)) },
		func(name string, f *pflag.Flag) {
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff.Replace(name), roff.Replace(option.Text(f)))
		})
	return b.String()
}

func long(cmd *cobra.Command) string {
	if cmd.Long == "" {
		return cmd.Short + "."
	}
	return cmd.Long
}

func unindented(text string) string {
	return strings.TrimPrefix(strings.ReplaceAll(text, "\n  ", "\n"), "  ")
}

// errorTable explains every kind of failure.
func errorTable(t *testing.T) string {
	t.Helper()
	texts := map[fault.Kind][3]string{
		fault.Other: {"`✗ 3 archives failed`", "Failures of several kinds in one run; each is shown above with its own. `compare`: the two differ. Alone, it is a mistake in the program",
			"Read the messages above, the first ones first. With `--as json`, each `failure` has its own `code`"},
		fault.Usage: {"`✗ there is no option --fold; the nearest is --flatten`", "The command line, a pattern, a template, a list or a job file is not right. Nothing was touched",
			"Follow the message; `widecrate COMMAND --help` has every option with examples"},
		fault.Refused: {"`✗ corrections/osk bay [v2].zip: entry \"levels.csv\" differs from /srv/merged/levels.csv`", "It would change what is there, or two archives want the same name, or another run has the job file. Nothing of that archive was put into place",
			"Choose with `--clash skip`, `replace`, `newer` or `number`; another `--into`; or own folders (`--layout own`)"},
		fault.Incomplete: {"`✗ survey/currents.tar.gz.001: of 3 parts, 1 is missing: currents.tar.gz.002`", "A set lacks parts or has them twice, one is empty or of another set, a series has a gap, or the data breaks at the border of two parts",
			"Fetch what is missing; `--parts-in DIR` if it lies elsewhere, `--wait 10m` if it is still arriving, `--allow-gaps` if a number may be missing"},
		fault.Password: {"`✗ locked/gauges.zip › keys.csv: it is locked, and there is no password`", "A password is missing, none of the candidates opens it, or it is locked in a way that is not read",
			"`--password-env VAR`, `--password-file FILE` (one candidate a line) or `--ask-password`"},
		fault.NoMatch: {"`✗ no entry has the path \"levels.cvs\"`", "The selection leaves nothing, or an `--entry` is nowhere. What is not selected is counted in the summary",
			"Look with `widecrate inspect`; patterns have `/` between folders on every system; the message names the nearest path"},
		fault.Damaged: {"`✗ readings/merrin-deep-2026-05-07.zip › levels.csv: its data ends after 40081 bytes where the directory says 40104`", "Bytes changed or are missing, a checksum does not hold, or it is no archive, or of a method that is not read",
			"Fetch it again and compare sums; `--salvage` takes what can be had and names what is lost"},
		fault.Unreadable: {"`✗ inbox/a.zip: there is no such file or folder`", "A source is missing, may not be read, changed while it was read, or an address does not answer",
			"Check the name (it is taken to the letter) and the rights; addresses are tried again by themselves, see `--retries`"},
		fault.Unsafe: {"`✗ a.zip › ../../x: its path leads out of its folder with '..'`", "A path or link leads out of the destination, entries overlap, or it would unpack to more than the bounds allow",
			"Do not trust it. If you do: `--drop` that entry, `--links skip` or `rebase`, raise `--max-total`, `--max-ratio`, `--max-entries` or `--max-memory`"},
		fault.Unwritable: {"`✗ a.zip › /srv/out: no space left on device`", "No room, no rights, a full table of files, a read-only disk, or a source that could not be removed",
			"Make room or choose another `--into`; nothing incomplete was left behind, and the same command goes on from there"},
	}
	var b strings.Builder
	b.WriteString("# Exit codes and errors\n\nEvery message has three parts: **where** (`archive › entry`, or a path), **why**, and after an arrow **what to do**. They go to standard\nerror; with `--as json` each line that fails has `failure` with `kind`, `code`, `where`, `why` and `do`. The exit code is that of the failures of a run, or\n1 where they are of different kinds.\n\n| code | kind | looks like | why | what to do |\n|---:|---|---|---|---|\n| 0 | done | | All done; nothing to do counts as done | |\n")
	for kind := fault.Other; int(kind) < len(texts) || kind == fault.Other; kind++ {
		text, there := texts[kind]
		require.True(t, there, "the table lacks %v", kind)
		fmt.Fprintf(&b, "| %d | %s | %s | %s | %s |\n", kind.Number(), kind, text[0], text[1], text[2])
	}
	require.Equal(t, fault.Unwritable+1, fault.Kind(len(texts)), "a kind was added")
	fmt.Fprintf(&b, "| %d | interrupted | `✗ interrupted; what was unfinished is cleared away` | Ctrl-C, or a signal that asks to end | Run it again |\n", exitInterrupted)
	return b.String()
}
