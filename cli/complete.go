package cli

import (
	"bytes"
	"context"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widecrate/cli/option"
	"widecrate/core/archive"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/inspect"
	"widecrate/core/job"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// completions are those of options whose words are not theirs alone: formats, the
// placeholders of templates, and the paths in the archives that are named.
var completions = map[string]cobra.CompletionFunc{
	"try":      ways,
	"own-name": placeholders(ownNamePlaceholders),
	"rename":   placeholders(renamePlaceholders),
	"entry":    entryPaths(strings.NewReplacer()),
	"pick":     entryPaths(asPattern),
	"drop":     entryPaths(asPattern),
	"remove":   entryPaths(asPattern),
	"move":     entryPaths(strings.NewReplacer()),
	"only": ofJobFile(func(f *job.File) (names []string) {
		for _, j := range f.Jobs {
			names = append(names, j.Name)
		}
		return names
	}),
	"set": ofJobFile(func(f *job.File) (names []string) {
		for _, name := range f.Variables {
			names = append(names, name+"=")
		}
		return names
	}),
}

// asPattern makes a path match itself as a pattern.
var asPattern = strings.NewReplacer("*", "?", "[", "?", "]", "?", "{", "?", "}", "?")

// completes reports whether a shell asks for completions.
func completes(args []string) bool {
	return len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd)
}

// completeOptions adds the completions to a command and those below it.
func completeOptions(cmd *cobra.Command) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		c, known := completions[f.Name]
		if words := option.Words(f); words != nil {
			c, known = fixed(words...), true
		}
		if known {
			_ = cmd.RegisterFlagCompletionFunc(f.Name, c) // fails only for an option that does not exist
		}
	})
	for _, below := range cmd.Commands() {
		completeOptions(below)
	}
}

func fixed(words ...string) cobra.CompletionFunc {
	return cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)
}

// ways completes the last of several with commas between them: formats, and the methods of ZIP.
func ways(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	before := typed[:strings.LastIndex(typed, ",")+1]
	names := format.Writable()
	for _, method := range zip.Format.Methods {
		names = append(names, zip.Format.Name+":"+method)
	}
	for i := range names {
		names[i] = before + names[i]
	}
	return names, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// ofJobFile offers what is in the job file that is named.
func ofJobFile(names func(f *job.File) []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) != 1 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		f, err := job.Read(args[0], jobLanguage(), nil, os.LookupEnv)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		words, directive := names(f), cobra.ShellCompDirectiveNoFileComp
		if slices.ContainsFunc(words, func(word string) bool { return strings.HasSuffix(word, "=") }) {
			directive |= cobra.ShellCompDirectiveNoSpace
		}
		slices.Sort(words)
		return slices.Compact(words), directive
	}
}

// placeholders completes the one that was begun, or offers them behind what was typed.
func placeholders(names []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		if open := strings.LastIndex(typed, "{"); open > strings.LastIndex(typed, "}") {
			typed = typed[:open]
		}
		var words []string
		for _, name := range names {
			words = append(words, typed+"{"+name+"}")
		}
		return words, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	}
}

// A shell is not kept waiting longer than this.
const completionTime = 3 * time.Second

// entryPaths offers what is in the named archives, a folder at a time. Of create and
// weigh, whose sources are files, paths are completed as the shell does it.
func entryPaths(written *strings.Replacer) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if name := cmd.Name(); name == "create" || name == "weigh" {
			return nil, cobra.ShellCompDirectiveDefault
		}
		ctx, cancel := context.WithTimeout(context.Background(), completionTime)
		defer cancel()
		found := map[string]bool{}
		offer := func(e *archive.Entry) {
			path := written.Replace(e.Path)
			if rest, begun := strings.CutPrefix(path, typed); begun && rest != "" {
				if folder := strings.IndexByte(rest, '/'); folder >= 0 {
					path = path[:len(typed)+folder+1]
				} else if e.Kind == archive.Folder {
					path += "/"
				}
				found[path] = true
			}
		}
		sources, err := source.Find(ctx, source.Request{Names: args})
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		// What cannot be read has nothing to offer; the command will say why.
		_ = inspect.Run(ctx, inspect.Options{Request: walk.Request{Sources: sources}}, func(a *inspect.Archive, _ error) error {
			for _, e := range a.Entries(nil) {
				offer(e)
			}
			return nil
		})
		directive := cobra.ShellCompDirectiveNoFileComp
		paths := make([]string, 0, len(found))
		for path := range found {
			paths = append(paths, path)
			if strings.HasSuffix(path, "/") {
				directive |= cobra.ShellCompDirectiveNoSpace
			}
		}
		slices.Sort(paths)
		return paths, directive
	}
}

// splitWords is what the script for bash calls of bash's completion package, and
// wholeWords what it calls instead where that is not there.
const (
	splitWords = `_get_comp_words_by_ref "$@" cur prev words cword`
	wholeWords = `if declare -F _get_comp_words_by_ref >/dev/null 2>&1; then
        ` + splitWords + `
        return
    fi
    local i
    words=() cword=0
    for i in "${!COMP_WORDS[@]}"; do
        if ((i > 0)) && [[ ${COMP_WORDS[i]} == [=:]* || ${COMP_WORDS[i-1]} == [=:]* ]]; then
            words[${#words[@]}-1]+=${COMP_WORDS[i]}
        else
            words+=("${COMP_WORDS[i]}")
        fi
        if ((i == COMP_CWORD)); then cword=$((${#words[@]} - 1)); fi
    done
    cur=${words[cword]} prev=${words[cword-1]}`
)

// installed is how a shell gets its completion for good, in one line.
var installed = map[string]string{
	"bash":       `echo 'source <(widecrate completion bash)' >> ~/.bashrc`,
	"zsh":        `echo 'autoload -U compinit; compinit; source <(widecrate completion zsh)' >> ~/.zshrc`,
	"fish":       `mkdir -p ~/.config/fish/completions; widecrate completion fish > ~/.config/fish/completions/widecrate.fish`,
	"powershell": `Add-Content $PROFILE 'widecrate completion powershell | Out-String | Invoke-Expression'`,
}

// addCompletion adds the command that writes what shells complete with. That for bash works
// without bash's completion package too.
func addCompletion(root *cobra.Command) {
	root.InitDefaultCompletionCmd()
	all, _, err := root.Find([]string{"completion"})
	if err != nil {
		return // there is nothing to complete
	}
	all.Short = "Tab completion for bash, zsh, fish or PowerShell"
	all.Long = `Tab completion of commands, options, their values, and the paths in archives.
Each command below writes the script of one shell; its help has the one line
that installs it for good.`
	all.Use, all.Args, all.RunE = "completion SHELL", noCommand, func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	for _, shell := range all.Commands() {
		shell.Short = "Tab completion for " + shell.Name()
		shell.Long = "Writes the script that completes command lines of widecrate in " + shell.Name() + ".\nThe example installs it; a shell that is started after that has it."
		shell.Example = "  " + installed[shell.Name()]
		shell.Flags().Lookup("no-descriptions").Usage = "complete without a word on what each thing is"
		shell.Args = takes(0, 0, "")
		if shell.Name() == "bash" {
			shell.RunE = bashCompletion
		}
	}
}

func bashCompletion(cmd *cobra.Command, _ []string) error {
	plain, err := cmd.Flags().GetBool("no-descriptions")
	if err != nil {
		return err
	}
	var script bytes.Buffer
	if err := cmd.Root().GenBashCompletionV2(&script, !plain); err != nil {
		return err
	}
	_, err = cmd.OutOrStdout().Write(bytes.Replace(script.Bytes(), []byte(splitWords), []byte(wholeWords), 1))
	return err
}
