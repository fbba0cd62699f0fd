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
	if cmd.HasAvailableSubCommands() {
		b.WriteString("\n\nCommands:")
		for _, below := range cmd.Commands() {
			if below.IsAvailableCommand() {
				fmt.Fprintf(&b, "\n  %-*s %s", below.NamePadding(), below.Name(), below.Short)
			}
		}
	}
	if cmd.HasAvailableLocalFlags() {
		b.WriteString("\n" + option.Help(cmd) + option.PlaceholderHelp(cmd))
	}
	if cmd.HasAvailableSubCommands() {
		fmt.Fprintf(&b, "\n\nMore about a command: %s COMMAND --help", cmd.CommandPath())
	}
	return b.String() + "\n"
}
