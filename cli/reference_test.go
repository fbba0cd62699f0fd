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

// wholeRoot has all commands with all of their options.
func wholeRoot() *cobra.Command {
	root := newRoot(&streams{Output: show.Output{Out: show.NewScreen(nil), Err: show.NewScreen(nil)}})
	prepareAll(root)
	return root
}

// The short help of each command has all of its options, on two screens of 40 lines.
func TestShortHelp(t *testing.T) {
	var look func(cmd *cobra.Command)
	look = func(cmd *cobra.Command) {
		short := option.Short(cmd)
		lines := strings.Split(short, "\n")
		assert.LessOrEqual(t, len(lines), 80, cmd.CommandPath())
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
	look(wholeRoot())
}

// The pages of the reference and the table of errors are what the table of options and
// the kinds of failure say.
func TestReference(t *testing.T) {
	root := wholeRoot()
	pages := map[string]string{"../docs/guide.md": guide(t), "../docs/errors.md": errorTable(t), "../docs/reference/options.md": matrix(t, root)}
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
	errors, err := os.ReadFile("../docs/errors.md")
	require.NoError(t, err)
	_, below, _ := strings.Cut(string(errors), "\n## ") // which the program itself is asked for: e2e
	pages["../docs/errors.md"] += "\n## " + below
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
// matrix is which command has which option, for those that several have, or why not.
func matrix(t *testing.T, root *cobra.Command) string {
	names := []string{"extract", "inspect", "verify", "compare", "convert", "create", "edit", "weigh", "parts scan", "parts join", "parts split", "run"}
	var b strings.Builder
	b.WriteString("# Which command has which option\n\nOptions that several commands have, and why others lack them. Each command has a page of its own: see\n[widecrate](widecrate.md).\n\n| option | " +
		strings.Join(names, " | ") + " |\n|---|" + strings.Repeat("---|", len(names)) + "\n")
	known := map[string]bool{}
	for _, r := range option.Table {
		cells, have := make([]string, len(names)), 0
		for i, name := range names {
			cmd, _, err := root.Find(strings.Fields(name))
			require.NoError(t, err)
			known[r.Name+" "+cmd.Name()] = true
			cells[i] = option.Absent[r.Name][cmd.Name()]
			if cmd.Flags().Lookup(r.Name) != nil {
				assert.Empty(t, cells[i], "%s --%s is there", name, r.Name)
				cells[i] = "yes"
				have++
			}
		}
		if have > 1 {
			fmt.Fprintf(&b, "| `--%s` | %s |\n", r.Name, strings.Join(cells, " | "))
		}
	}
	for name, commands := range option.Absent {
		for command := range commands {
			assert.True(t, known[name+" "+command], "there is no %s --%s", command, name)
		}
	}
	return b.String()
}

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
		if !cmd.HasParent() {
			b.WriteString("\n[Which command has which option](options.md)\n")
		}
	}
	option.Each(cmd, func(title string) { fmt.Fprintf(&b, "\n## %s\n\n| option | does |\n|---|---|\n", title) },
		func(name string, f *pflag.Flag) {
			fmt.Fprintf(&b, "| `%s` | %s |\n", strings.ReplaceAll(name, "|", "\\|"), strings.ReplaceAll(option.Text(f), "|", "\\|"))
		})
	if all := option.Placeholders(cmd); all != nil {
		b.WriteString("\n## Placeholders\n\n| placeholder | is | example |\n|---|---|---|\n")
		for _, p := range all {
			fmt.Fprintf(&b, "| `{%s}` | %s | `%s` |\n", p.Name, p.Means, p.Example)
		}
	}
	return b.String()
}

// manual is the same for man (man-pages(7)).
func manual(cmd *cobra.Command) string {
	roff := strings.NewReplacer(`\`, `\e`, "-", `\-`, "\n.", "\n\\&.", "\n'", "\n\\&'", "…", "...")
	var b strings.Builder
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	fmt.Fprintf(&b, ".TH %s 1 \"\" \"Wide Crate\" \"User Commands\"\n.nh\n.ad l\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), roff.Replace(name), roff.Replace(cmd.Short))
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B %s\n.SH DESCRIPTION\n%s\n", roff.Replace(cmd.UseLine()), described(roff.Replace(long(cmd))))
	if cmd.HasExample() {
		fmt.Fprintf(&b, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff.Replace(unindented(cmd.Example)))
	}
	below := cmd.Commands()
	if cmd.HasAvailableSubCommands() {
		b.WriteString(".SH COMMANDS\n")
		for _, one := range below {
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff.Replace(one.Name()), roff.Replace(one.Short))
		}
	}
	option.Each(cmd, func(title string) { fmt.Fprintf(&b, ".SH %s\n", strings.ToUpper(title)) },
		func(name string, f *pflag.Flag) {
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff.Replace(name), roff.Replace(option.Text(f)))
		})
	if cmd.HasParent() {
		below = append(below, cmd.Parent())
	}
	var also []string
	for _, one := range below {
		also = append(also, ".BR "+roff.Replace(strings.ReplaceAll(one.CommandPath(), " ", "-"))+" (1)")
	}
	fmt.Fprintf(&b, ".SH SEE ALSO\n%s\n", strings.Join(also, ",\n"))
	return b.String()
}

func long(cmd *cobra.Command) string {
	if cmd.Long == "" {
		return cmd.Short + "."
	}
	return cmd.Long
}

// described are paragraphs; lines that are indented keep their shape.
func described(text string) string {
	var b strings.Builder
	asTyped := false
	for line := range strings.Lines(text) {
		if is := strings.HasPrefix(line, "  "); is != asTyped {
			asTyped = is
			b.WriteString(map[bool]string{true: ".nf\n", false: ".fi\n"}[is])
		}
		if line == "\n" {
			line = ".PP\n"
		}
		b.WriteString(line)
	}
	if asTyped {
		b.WriteString("\n.fi")
	}
	return b.String()
}

func unindented(text string) string {
	return strings.TrimPrefix(strings.ReplaceAll(text, "\n  ", "\n"), "  ")
}

// errorTable explains every kind of failure.
func errorTable(t *testing.T) string {
	t.Helper()
	texts := map[fault.Kind][3]string{ // of the second, e2e shows that it is printed
		fault.Other: {"Several archives failed for different reasons; each is shown above with its own. `compare`: A and B differ. Otherwise it is a mistake in the program",
			"2 archives failed, reported above", "Read the messages above, the first ones first. With `--as json`, each `failure` has its own `code`"},
		fault.Usage: {"The command line, a pattern, a template, a list or a job file is wrong. Nothing was touched",
			"✗ there is no option --flaten; the nearest is --flatten", "Follow the message; `widecrate COMMAND --help` has every option, with examples"},
		fault.Refused: {"A file would be changed that is there, two archives want the same name, or another run has the job file. Nothing of that archive was put into place",
			"✗ corrections/osk bay [v2].zip: entry \"levels.csv\" differs from /srv/tidewatch/merged/levels.csv",
			"Choose with `--clash skip`, `replace`, `newer` or `number`, another `--into`, or own folders (`--layout own`)"},
		fault.Incomplete: {"Parts of a set are missing, there twice, empty, or of another set; a series has a gap; or the data breaks at the border of two parts",
			"✗ survey/currents.tar.gz.001: of 3 parts, 1 is missing: currents.tar.gz.002",
			"Fetch what is missing. `--parts-in DIR` if it is in another folder, `--wait 10m` if it is still arriving, `--allow-gaps` if a number may be missing"},
		fault.Password: {"A password is missing, none of those given opens it, or it is locked in a way that is not supported",
			"✗ locked/gauges.zip › keys.csv: it is locked, and there is no password",
			"`--password-env VAR`, `--password-file FILE` (one password a line) or `--ask-password`"},
		fault.NoMatch: {"The selection leaves nothing, or no archive has the path of an `--entry`. The summary counts what was left out, and why",
			"✗ no entry has the path \"levels.cvs\"", "Look with `widecrate inspect`. The message names the nearest path. In patterns, folders are separated by `/` on every system"},
		fault.Damaged: {"Bytes were changed or are missing, a checksum is wrong, the file is no archive, or its method is not supported",
			"✗ readings/merrin-deep-2026-05-07.zip › levels.csv: its data ends after 40059 bytes where the directory says 40104",
			"Fetch it again and compare sums. `--salvage` takes what can be read and names what is lost"},
		fault.Unreadable: {"A source is missing, may not be read, or changed while it was read; or an address does not answer",
			"✗ inbox/a.zip: there is no such file or folder", "Check the name (it is taken exactly as written) and the permissions. Addresses are tried again by themselves, see `--retries`"},
		fault.Unsafe: {"A path or link leads out of the destination, entries overlap, or it would unpack to more than the limits allow",
			"✗ discs/osk-bay-2025.iso › latest.csv: it is a link to \"/levels/2026-05-06.csv\", which is absolute",
			"Do not trust it. If you do: `--drop` that entry, `--links skip` or `rebase`, raise `--max-total`, `--max-ratio`, `--max-entries` or `--max-memory`"},
		fault.Unwritable: {"No space, no permission, no free inodes, a read-only disk, or a source that could not be removed",
			"✗ corrections/osk bay [v1].zip › /srv/tidewatch/tidewatch.txt: it is a file, and a folder is needed there",
			"Make space or choose another `--into`. Nothing incomplete was left behind; the same command goes on from there"},
	}
	var b strings.Builder
	b.WriteString("# Exit codes and errors\n\nA message says **where** (`archive › entry`, or a path) and **why**, and after an arrow **what to do**, where something helps. Messages go to standard\nerror. With `--as json`, the lines of what failed have a `failure` with `kind`, `code`, `where`, `why` and `do`. The exit code of a run is that of its\nfailures, or 1 if they are of different kinds.\n\n| code | kind | looks like | why | what to do |\n|---:|---|---|---|---|\n| 0 | done | | Everything is done, or there was nothing to do | |\n")
	for kind := fault.Other; int(kind) < len(texts) || kind == fault.Other; kind++ {
		text, there := texts[kind]
		require.True(t, there, "the table lacks %v", kind)
		fmt.Fprintf(&b, "| %d | %s | %s | %s | %s |\n", codeOf(kind), kind, "`"+text[1]+"`", text[0], text[2])
	}
	require.Equal(t, fault.Unwritable+1, fault.Kind(len(texts)), "a kind was added")
	fmt.Fprintf(&b, "| %d | interrupted | `! %s` | Ctrl-C, or a signal that asks to end | Run it again |\n", exitInterrupted, interrupted)
	fmt.Fprintf(&b, "| %d | output closed | | What read standard output closed it, as `head` does. The run ended there; what was delivered stays, and what was not complete has been removed | Nothing, or let it read on |\n", exitUnread)
	return b.String()
}
