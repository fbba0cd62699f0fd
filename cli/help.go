package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
)

// help is the long help on a command. It is put together without a template:
// with one, the linker would have to keep every method in the program.
func help(cmd *cobra.Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\nUse:\n  %s", cmp.Or(cmd.Long, cmd.Short), cmd.UseLine())
	if cmd.HasExample() {
		fmt.Fprintf(&b, "\n\nExamples:\n%s", cmd.Example)
	}
	b.WriteString(commands(cmd))
	if cmd.HasAvailableLocalFlags() {
		b.WriteString("\n" + option.Help(cmd) + option.PlaceholderHelp(cmd))
	}
	return b.String() + more(cmd) + "\n"
}

// shortHelp is a line for each command and option.
func shortHelp(cmd *cobra.Command) string {
	return fmt.Sprintf("%s\n\nUse:\n  %s%s\n%s%s\n", cmd.Short, cmd.UseLine(), commands(cmd), option.Short(cmd), more(cmd))
}

// commands are those below a command; empty: there are none.
func commands(cmd *cobra.Command) string {
	if !cmd.HasAvailableSubCommands() {
		return ""
	}
	var b strings.Builder
	b.WriteString("\n\nCommands:")
	for _, below := range cmd.Commands() {
		if below.IsAvailableCommand() {
			fmt.Fprintf(&b, "\n  %-*s %s", below.NamePadding(), below.Name(), below.Short)
		}
	}
	return b.String()
}

func more(cmd *cobra.Command) string {
	if !cmd.HasAvailableSubCommands() {
		return ""
	}
	return fmt.Sprintf("\n\nMore about a command: %s COMMAND --help", cmd.CommandPath())
}

// newHelp is what people type who expect such a command; each has --help.
func newHelp(s *streams) *cobra.Command {
	return &cobra.Command{
		Use:    "help [COMMAND]",
		Short:  "Show the help of a command",
		Hidden: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			about, left, err := cmd.Root().Find(args)
			if about == cmd {
				about, left = cmd.Root(), nil
			}
			if err == nil {
				err = noCommand(about, left)
			}
			if err != nil {
				return usage(cmd.Root(), err)
			}
			cmd.Print(help(about))
			return nil
		},
	}
}
