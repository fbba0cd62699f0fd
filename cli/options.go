package cli

import (
	"cmp"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// Every option that more than one command has is declared here, once.

// archiveOptions are those of all commands that read archives: which, which of
// their entries, and how they are opened.
type archiveOptions struct {
	sourceOptions
	remoteOptions
	selectionOptions
	passwordOptions
	decodeOptions
}

// addTo adds them in two groups; nested reports whether the command looks into archives inside
// others.
func (o *archiveOptions) addTo(set *option.Set, nested, keeps bool) {
	set.Group("Which archives", func() {
		o.sourceOptions.addTo(set)
		if nested {
			o.addNested(set)
		}
		o.passwordOptions.addTo(set)
		o.decodeOptions.addTo(set)
	})
	set.Group("Archives at addresses", func() {
		o.remoteOptions.addTo(set)
		if keeps {
			o.addFetched(set)
		}
	})
	set.Group("Which entries", func() { o.selectionOptions.addTo(set) })
}

// check finds what is wrong about them before anything is looked at; others reports
// whether sources are also named in another way.
func (o *archiveOptions) check(cmd *cobra.Command, args []string, others bool) error {
	if err := o.sourceOptions.check(cmd, args, others); err != nil {
		return err
	}
	if _, err := choose.New(o.rules); err != nil {
		return err
	}
	if err := o.remoteOptions.check(cmd); err != nil {
		return err
	}
	return o.passwordOptions.check(cmd)
}

// resolve makes a request of the options: it finds the archives.
func (o *archiveOptions) resolve(cmd *cobra.Command, args []string, s *streams, quiet bool) (r walk.Request, err error) {
	r = walk.Request{Reading: o.reading, Nested: o.nestedDepth(), Archives: o.request.Archives, Limits: o.limits, Fetched: o.fetched}
	if r.Selection, err = o.selection(cmd); err != nil {
		return r, err
	}
	if r.Sources, err = o.find(cmd, args, s, quiet, o.connect(cmd, s)); err != nil {
		return r, err
	}
	if err := o.decoding(cmd, &r.Reading); err != nil {
		return r, err
	}
	r.Reading.Passwords, err = o.passwords(cmd, s)
	return r, err
}

// selectionOptions choose entries.
type selectionOptions struct {
	rules        choose.Rules
	list         string
	pickList     string
	min, max     option.Size
	since, until option.Moment
}

func (o *selectionOptions) addTo(set *option.Set) {
	set.Texts(&o.rules.Entry, "entry")
	set.Text(&o.list, "entry-list")
	set.Texts(&o.rules.Pick, "pick")
	set.Text(&o.pickList, "pick-list")
	set.Texts(&o.rules.Drop, "drop")
	set.List(&o.rules.Ext, "ext")
	set.Switch(&o.rules.NoClutter, "no-clutter")
	set.Value(&o.min, "min-size")
	set.Value(&o.max, "max-size")
	set.Value(&o.since, "since")
	o.until.End = true
	set.Value(&o.until, "until")
	set.Switch(&o.rules.IgnoreCase, "ignore-case")
}

func (o *selectionOptions) selection(cmd *cobra.Command) (*choose.Selection, error) {
	for _, list := range []struct {
		file string
		to   *[]string
	}{{o.list, &o.rules.Entry}, {o.pickList, &o.rules.Pick}} {
		if list.file == "" {
			continue
		}
		err := readFile(cmd, list.file, func(r io.Reader) error {
			lines, err := source.ReadList(r, false)
			*list.to = append(*list.to, lines...)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	o.rules.MinSize, o.rules.MaxSize = int64(o.min), int64(o.max)
	o.rules.Since, o.rules.Until = o.since.Time, o.until.Time
	return choose.New(o.rules)
}

// ending is the error of a command, some of whose archives failed, perhaps. It looks at what
// the rules did, too: what matched nothing beside others is a warning, the rest an error.
func (s *streams) ending(cmd *cobra.Command, failures *report.Failures, selection *choose.Selection, kept int, leftOut choose.Tally, quiet bool) error {
	if halt := cmd.Flags().Lookup("halt"); halt != nil && halt.Changed && failures.Count() > 0 {
		return shownError(failures) // what comes after it was not looked into: nobody knows what matches there
	}
	unmatched, err := report.Matches(selection, kept, leftOut, failures.Count() > 0)
	if shard := cmd.Flags().Lookup("shard"); err != nil && shard != nil && shard.Changed {
		// It may well match in another share: nobody knows here.
		s.Warn("in this share, " + err.Error())
		err = nil
	}
	if !quiet {
		for _, rule := range unmatched {
			text := "nothing matched " + rule.Text
			if rule.Nearest != "" {
				text = say.With(fmt.Sprintf("%s, which just misses %s", text, rule.Nearest), rule.Hint())
			}
			s.Warn(text)
		}
	}
	failed := shownError(failures)
	if failed != nil && err != nil { // it may be in what could not be read: that is what is wrong
		s.Failed(err)
		return failed
	}
	return cmp.Or(failed, err)
}

// shownError is the error of failures that were reported; nil if there are none.
func shownError(failures *report.Failures) error {
	if err := failures.Err(); err != nil {
		return reported{err}
	}
	return nil
}

// decodeOptions say what data is decoded with, and protect against hostile archives.
type decodeOptions struct {
	dictionary string
	limits     bound.Limits
	memory     int64
}

// largestDictionary is far more than any is of use with.
const largestDictionary = 128 << 20

// decoding is what archives are opened with.
func (o *decodeOptions) decoding(cmd *cobra.Command, r *archive.Options) error {
	if r.MaxMemory = o.memory; o.dictionary == "" {
		return nil
	}
	return readFile(cmd, o.dictionary, func(in io.Reader) (err error) {
		r.Dictionary, err = io.ReadAll(io.LimitReader(in, largestDictionary+1))
		switch {
		case err != nil:
			return fault.Reading("", err)
		case len(r.Dictionary) == 0 || len(r.Dictionary) > largestDictionary:
			return fault.New(fault.Usage, "it is no dictionary: it has %s", show.Size(int64(len(r.Dictionary)))).Advise("name the file that the archives were packed with")
		}
		return nil
	})
}

func (o *decodeOptions) addTo(set *option.Set) {
	set.Text(&o.dictionary, "dictionary")
	set.Bound(&o.limits.Total, "max-total", true)
	set.Bound(&o.limits.Ratio, "max-ratio", false)
	set.Bound(&o.memory, "max-memory", true)
	set.Bound(&o.limits.Entries, "max-entries", false)
}

// when is for things that depend on whether there is a terminal.
type when uint8

const (
	auto when = iota
	always
	never
)

func whenChoice() option.Choice[when] {
	return option.Either([]string{"auto", "always", "never"}, auto, always, never)
}

// outputOptions shape what is printed.
type outputOptions struct {
	as      option.Choice[show.Form]
	nullOut bool
	color   option.Choice[when]
	quiet   bool
	verbose bool
}

// addTo declares them; the forms are words of --as, in addition to those of all commands.
func (o *outputOptions) addTo(set *option.Set, more ...string) {
	words, values := []string{"table", "json", "names"}, []show.Form{show.People, show.JSON, show.Names}
	for _, word := range more {
		words, values = append(words, word), append(values, map[string]show.Form{"tree": show.Tree, "csv": show.CSV, "archives": show.Archives}[word])
	}
	o.as, o.color = option.Either(words, values...), whenChoice()
	set.Value(&o.as, "as")
	set.Switch(&o.nullOut, "null-out")
	set.Value(&o.color, "color")
	set.Switch(&o.quiet, "quiet")
	set.Switch(&o.verbose, "verbose")
}

// apply makes the streams what the options ask for.
func (o *outputOptions) apply(s *streams) {
	s.Form, s.Null, s.Quiet, s.Verbose = o.as.Value(), o.nullOut, o.quiet, o.verbose
	if c := o.color.Value(); c != auto {
		s.Out.SetColor(c == always)
		s.Err.SetColor(c == always)
	}
}
