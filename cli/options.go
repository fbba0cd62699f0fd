package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/stage"
)

// Every option that more than one command has is declared here, once.

// choice is an option whose value is one of a few words.
type choice[T any] struct {
	words  []string
	values []T
	at     int
}

func (c *choice[T]) String() string { return c.words[c.at] }
func (c *choice[T]) Type() string   { return strings.Join(c.words, "|") }
func (c *choice[T]) Value() T       { return c.values[c.at] }

func (c *choice[T]) Set(word string) error {
	at := slices.Index(c.words, word)
	if at < 0 {
		return fault.New(fault.Usage, "it must be one of %s", strings.Join(c.words, ", "))
	}
	c.at = at
	return nil
}

// addTo declares the option; the first word is what it is when left out.
func (c *choice[T]) addTo(cmd *cobra.Command, name, help string) {
	cmd.Flags().Var(c, name, help)
	// It fails only for an option that does not exist.
	_ = cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(c.words, cobra.ShellCompDirectiveNoFileComp))
}

// selectionOptions choose entries.
type selectionOptions struct{ rules choose.Rules }

func (o *selectionOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&o.rules.Entry, "entry", nil, "keep the entry with this `PATH`, to the letter (repeatable)")
	f.StringArrayVar(&o.rules.Pick, "pick", nil, "keep entries that match this `PATTERN`, such as 'chart*' or 'charts/**' (repeatable: any of them)")
	f.StringArrayVar(&o.rules.Drop, "drop", nil, "leave out entries that match this `PATTERN`; stronger than the rest (repeatable)")
	f.StringSliceVar(&o.rules.Ext, "ext", nil, "keep only these extensions, a `LIST` such as csv,tsv; letter case is ignored")
}

func (o *selectionOptions) selection() (*choose.Selection, error) { return choose.New(o.rules) }

// noMatch is the error for a selection that kept nothing anywhere.
func noMatch(leftOut choose.Tally) error {
	return fault.New(fault.NoMatch, "nothing matched the selection: all %s were left out", show.Count(leftOut.LeftOut(), "entry")).
		Advise("widecrate inspect shows what is inside")
}

// leftOut says how many entries were left out, and by which rules.
func leftOut(t choose.Tally) string {
	if t.LeftOut() == 0 {
		return "none left out"
	}
	var rules []string
	for rule := choose.Kept + 1; int(rule) < len(t); rule++ {
		switch t[rule] {
		case 0:
		case t.LeftOut():
			rules = append(rules, rule.String())
		default:
			rules = append(rules, show.Number(t[rule])+" "+rule.String())
		}
	}
	return fmt.Sprintf("%s left out (%s)", show.Number(t.LeftOut()), strings.Join(rules, ", "))
}

// byRule is the same for JSON.
func byRule(t choose.Tally) map[string]int {
	counts := map[string]int{}
	for rule := choose.Kept + 1; int(rule) < len(t); rule++ {
		if t[rule] > 0 {
			counts[strings.ReplaceAll(rule.String(), " ", "_")] = t[rule]
		}
	}
	return counts
}

// warnUnmatched names the rules that matched nothing while others did.
func (s *streams) warnUnmatched(selection *choose.Selection) {
	for _, rule := range selection.Unmatched() {
		s.err.Printf("%s nothing matched %s\n", s.err.Strong("!"), show.Plain(rule))
	}
	s.err.Flush()
}

// placementOptions say where entries go.
type placementOptions struct {
	into   string
	layout choice[place.Layout]
	clash  choice[stage.Clash]
}

func (o *placementOptions) addTo(cmd *cobra.Command) {
	o.layout = choice[place.Layout]{words: []string{"own", "shared"}, values: []place.Layout{place.Own, place.Shared}}
	o.clash = choice[stage.Clash]{words: []string{"refuse", "skip", "replace"}, values: []stage.Clash{stage.Refuse, stage.Skip, stage.Replace}}
	cmd.Flags().StringVar(&o.into, "into", "", "destination root `DIR`, made if missing (left out: the folder that each archive lies in)")
	o.layout.addTo(cmd, "layout", "own: a folder for each archive, named after it; shared: all into the root, merged in order")
	o.clash.addTo(cmd, "clash", "where a file differs from one that is there. refuse: nothing of that archive is unpacked; skip: keep what is there; replace: take the archive's")
}

func (o *placementOptions) placement() place.Placement {
	return place.Placement{Into: o.into, Layout: o.layout.Value()}
}

// form is what standard output holds.
type form uint8

const (
	asText form = iota
	asJSON
	asNames
)

// outputOptions shape what is printed.
type outputOptions struct {
	as      choice[form]
	quiet   bool
	verbose bool
}

func (o *outputOptions) addTo(cmd *cobra.Command, text string) {
	o.as = choice[form]{words: []string{text, "json", "names"}, values: []form{asText, asJSON, asNames}}
	o.as.addTo(cmd, "as", "what standard output holds: "+text+" for people, JSON Lines, or paths, one a line")
	cmd.Flags().BoolVarP(&o.quiet, "quiet", "q", false, "print errors only")
	cmd.Flags().BoolVarP(&o.verbose, "verbose", "v", false, "print more")
	cmd.MarkFlagsMutuallyExclusive("quiet", "verbose")
}

// summary is where what people read goes: not among the data.
func (o *outputOptions) summary(s *streams) *show.Screen {
	if o.as.Value() == asText {
		return s.out
	}
	return s.err
}
