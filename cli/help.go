package cli

import (
	"fmt"
	"strings"

	"github.com/mitchellh/go-wordwrap"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// groupKey is the annotation that says under which title an option stands.
const groupKey = "group"

// group puts the options that declare declares under a title of their own in
// the help.
func group(cmd *cobra.Command, title string, declare func()) {
	before := map[string]bool{}
	cmd.Flags().VisitAll(func(f *pflag.Flag) { before[f.Name] = true })
	cmd.Flags().SortFlags = false
	declare()
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if !before[f.Name] {
			f.Annotations = map[string][]string{groupKey: {title}}
		}
	})
}

const helpWidth = 80

// optionHelp is the help on the options of a command, group by group: each on
// a line of its own, what it does indented below.
func optionHelp(cmd *cobra.Command) string {
	var b strings.Builder
	title := ""
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		at := "Options"
		if in := f.Annotations[groupKey]; in != nil {
			at = in[0]
		}
		if at != title {
			fmt.Fprintf(&b, "\n%s:\n", at)
			title = at
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		value, help := pflag.UnquoteUsage(f)
		if value != "" {
			name += " " + value
		}
		if d := f.DefValue; d != "" && d != "false" && d != "[]" && d != "0" && d != "0s" {
			help += " (left out: " + d + ")"
		}
		const indent = "        "
		text := wordwrap.WrapString(help, helpWidth-uint(len(indent)))
		fmt.Fprintf(&b, "  %s\n%s%s\n", name, indent, strings.ReplaceAll(text, "\n", "\n"+indent))
	})
	return strings.TrimRight(b.String(), "\n")
}
