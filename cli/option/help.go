package option

import (
	"fmt"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/mitchellh/go-wordwrap"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widecrate/core/place"
)

const helpWidth = 80

// shortLines is a screen and a half: a short help that would be longer only names
// the options that are seldom needed.
const shortLines = 72

// shortNames is how wide the names of options with their values may be in the
// short help before they push the rest aside.
const shortNames = 24

// Help is the help on the options of a command, group by group: each on a line of
// its own, what it does indented below.
func Help(cmd *cobra.Command) string {
	const indent = "        "
	var b strings.Builder
	Each(cmd, func(title string) { fmt.Fprintf(&b, "\n%s:\n", title) }, func(name string, f *pflag.Flag) {
		fmt.Fprintf(&b, "  %s\n%s\n", name, wrapped(Text(f), indent))
	})
	return strings.TrimRight(b.String(), "\n")
}

// Placeholders are those that the templates of a command may have.
func Placeholders(cmd *cobra.Command) (all []place.Placeholder) {
	allowed := map[string]bool{}
	add := func(names ...string) {
		for _, name := range names {
			allowed[name] = true
		}
	}
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if v, ok := f.Value.(*filled); ok {
			if t, ok := v.Value.(interface{ placeholders() []string }); ok {
				add(t.placeholders()...)
			}
		}
	})
	add(strings.Fields(cmd.Annotations[placeholdersKey])...)
	for _, p := range place.Placeholders {
		if allowed[p.Name] {
			all = append(all, p)
		}
	}
	return all
}

const placeholdersKey = "placeholders"

// Named says that an argument of the command may be a template.
func (s *Set) Named(placeholders ...string) {
	s.cmd.Annotations = map[string]string{placeholdersKey: strings.Join(placeholders, " ")}
}

// PlaceholderHelp is the help on them; empty: there are none.
func PlaceholderHelp(cmd *cobra.Command) string {
	var b strings.Builder
	for _, p := range Placeholders(cmd) {
		fmt.Fprintf(&b, "\n  {%s}%s  %s\n%s", p.Name, strings.Repeat(" ", max(0, 8-len(p.Name))), p.Example, wrapped(p.Means, "        "))
	}
	if b.Len() == 0 {
		return ""
	}
	return "\n\nPlaceholders, with an example of each:" + b.String()
}

// wrapped are lines of a text, each indented.
func wrapped(text, indent string) string {
	return indent + strings.ReplaceAll(wordwrap.WrapString(text, helpWidth-uint(len(indent))), "\n", "\n"+indent)
}

// Text is all that there is to say of an option.
func Text(f *pflag.Flag) string {
	if d := f.DefValue; d != "" && d != "false" && d != "0" && !strings.Contains(f.Usage, "(default:") {
		return f.Usage + " (default: " + d + ")"
	}
	return f.Usage
}

// Short is a line for each of them, as far as that is short.
func Short(cmd *cobra.Command) string {
	if all := short(cmd, false); strings.Count(all, "\n") < shortLines {
		return all
	}
	return short(cmd, true)
}

func short(cmd *cobra.Command, fold bool) string {
	widest := 0
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) { widest = max(widest, min(shortNames, runewidth.StringWidth(Written(f)))) })
	var b strings.Builder
	var folded []string
	group := "" // whose title was not printed yet
	unfold := func() {
		switch names := strings.Join(folded, ", "); {
		case folded == nil:
		case group != "": // nothing else is in it
			fmt.Fprintf(&b, "\n%s\n", wrapped(group+" (see --help): "+names, ""))
		default:
			fmt.Fprintf(&b, "%s\n", wrapped("also (see --help): "+names, "  "))
		}
		folded = nil
	}
	Each(cmd, func(title string) {
		unfold()
		group = title
	}, func(name string, f *pflag.Flag) {
		if fold && f.Annotations[seldomKey] != nil {
			folded = append(folded, "--"+f.Name)
			return
		}
		if group != "" {
			fmt.Fprintf(&b, "\n%s:\n", group)
			group = ""
		}
		text := f.Usage
		if help := f.Annotations[helpKey]; help != nil {
			text = help[0]
		}
		gap := strings.Repeat(" ", max(0, widest-runewidth.StringWidth(name))+2)
		fmt.Fprintf(&b, "  %s\n", runewidth.Truncate(name+gap+text, helpWidth-2, "…"))
	})
	unfold()
	return strings.TrimRight(b.String(), "\n")
}

// Each goes through the options of a command, with the titles of their groups.
func Each(cmd *cobra.Command, group func(title string), option func(name string, f *pflag.Flag)) {
	title := ""
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		in := "Options"
		if at := f.Annotations[titleKey]; at != nil && at[0] != "" {
			in = at[0]
		}
		if in != title {
			group(in)
			title = in
		}
		option(Written(f), f)
	})
}

// Written is how an option is written, with its value.
func Written(f *pflag.Flag) string {
	name := "--" + f.Name
	if f.Shorthand != "" {
		name = "-" + f.Shorthand + ", " + name
	}
	if at := f.Annotations[placeholderKey]; at != nil && at[0] != "" {
		return name + " " + at[0]
	}
	if f.NoOptDefVal == "" {
		name += " " + f.Value.Type()
	}
	return name
}
