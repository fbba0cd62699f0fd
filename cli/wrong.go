package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/fault"
)

// lacking is the error of a command line without what the command works on: a whole one says
// more than any option.
type lacking struct{ error }

// usage makes an error about the command line one of its kind.
func usage(cmd *cobra.Command, err error) error {
	if err == nil {
		return nil
	}
	if unknown, ok := errors.AsType[*pflag.NotExistError](err); ok {
		err = unknownOption(cmd, unknown)
	}
	if valueless, ok := errors.AsType[*pflag.ValueRequiredError](err); ok {
		err = fmt.Errorf("--%s: its value is missing: it is written %s", valueless.GetFlag().Name, option.Written(valueless.GetFlag()))
	}
	if wrong, ok := errors.AsType[*pflag.InvalidValueError](err); ok {
		err = fmt.Errorf("--%s %s: %w", wrong.GetFlag().Name, wrong.GetValue(), wrong.Unwrap())
		if wrong.GetValue() == "" {
			err = fmt.Errorf("--%s: %w", wrong.GetFlag().Name, wrong.Unwrap())
		}
	}
	advice := "see: " + cmd.CommandPath() + " --help"
	if _, is := errors.AsType[lacking](err); is {
		advice = "for example: " + exampleOf(cmd) + "; " + advice
	}
	return fault.New(fault.Usage, "%w", err).Advise(advice)
}

// exampleOf is the first example of a command that starts with its name.
func exampleOf(cmd *cobra.Command) (line string) {
	for line = range strings.Lines(cmd.Example) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, cmd.CommandPath()) {
			break
		}
	}
	line, _, _ = strings.Cut(line, "  # ")
	return line
}

// takes makes sure that a command line names between so many things and so many, of one kind.
func takes(least, most int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return lacking{fmt.Errorf("no %s is named", what)}
		case len(args) > most && most == 0:
			return fmt.Errorf("%q is one word too many: nothing is named here", args[0])
		case len(args) > most:
			return lacking{fmt.Errorf("%s are named where %d is taken: %s", show.Count(len(args), what), most, strings.Join(args, ", "))}
		}
		return nil
	}
}

// noCommand is for commands that only have others below them.
func noCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, below := range cmd.Commands() {
		names = append(names, below.Name())
	}
	if ours := commandWords[args[0]]; ours != "" && !cmd.HasParent() {
		return fmt.Errorf("there is no command %q; here it is %s", args[0], ours)
	}
	if nearest := fault.Nearest(args[0], names); nearest != "" {
		return fmt.Errorf("there is no command %q; the nearest is %s", args[0], nearest)
	}
	return fmt.Errorf("there is no command %q", args[0])
}

// commandWords and optionWords are general words for what commands and options do here, and what
// those are called.
var (
	commandWords = map[string]string{
		"list": "inspect", "ls": "inspect", "show": "inspect", "contents": "inspect", "find": "inspect", "x": "extract",
		"test": "verify", "check": "verify", "unpack": "extract", "pack": "create", "make": "create",
		"diff": "compare", "rewrite": "convert", "update": "edit", "delete": "edit", "rename": "edit",
		"split": "parts split", "join": "parts join", "revert": "undo", "measure": "weigh",
	}
	optionWords = map[string][]string{ // what the command has of these comes first
		"output": {"--into"}, "dest": {"--into"}, "destination": {"--into"}, "target": {"--into"}, "directory": {"--into"},
		"include": {"--pick"}, "filter": {"--pick"}, "exclude": {"--drop"}, "ignore": {"--drop"},
		"force": {"--clash replace"}, "overwrite": {"--clash replace"}, "recurse": {"--recursive"},
		"jobs": {"--workers"}, "threads": {"--workers"}, "json": {"--as json"}, "csv": {"--as csv"},
		"list": {"widecrate inspect"}, "show": {"widecrate inspect"}, "test": {"widecrate verify"}, "check": {"widecrate verify"},
		"password": {"--password-env"}, "compression": {"--level"}, "silent": {"--quiet"}, "simulate": {"--dry-run"},
		"delete": {"--after remove", "--remove"}, "log": {"--receipt"},
	}
	letters = map[string]string{ // that stand for such words
		"d": "directory", "f": "force", "i": "include", "j": "jobs", "n": "simulate", "o": "output", "p": "password", "r": "recurse", "x": "exclude",
	}
)

// oursFor is what a command has for a general word; empty: nothing.
func oursFor(cmd *cobra.Command, word string) string {
	for _, ours := range optionWords[strings.ToLower(word)] {
		option, _, _ := strings.Cut(ours, " ")
		if flag, is := strings.CutPrefix(option, "--"); !is || cmd.Flags().Lookup(flag) != nil {
			return ours
		}
	}
	return ""
}

// unknownOption says what is wrong about an option that there is not.
func unknownOption(cmd *cobra.Command, unknown *pflag.NotExistError) error {
	name := unknown.GetSpecifiedName()
	if short := unknown.GetSpecifiedShortnames(); short != "" {
		if ours := oursFor(cmd, letters[name]); ours != "" {
			return fmt.Errorf("there is no option -%s; here it is %s", name, ours)
		}
		return fmt.Errorf("there is no option -%s; a source whose name starts with a dash is written ./-%s, or after --", name, short)
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if ours := oursFor(cmd, name); ours != "" {
		return fmt.Errorf("there is no option --%s; here it is %s", name, ours)
	}
	if nearest := fault.Nearest(name, names); nearest != "" {
		return fmt.Errorf("there is no option --%s; the nearest is --%s", name, nearest)
	}
	return fmt.Errorf("there is no option --%s", name)
}
