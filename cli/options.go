package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/remote"
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

// sourceOptions find archives.
type sourceOptions struct {
	nameOptions
	request source.Request
	nested  bool
	depth   int
	shard   shardOption
	reading archive.Options

	encodings *bool // all are asked for; nil: they cannot be

	refuse option.Choice[bool] // what is not called like an archive
	left   []string            // archives that may still be arriving
	others []source.Source     // archives of other shares
}

func (o *sourceOptions) addTo(set *option.Set) {
	o.addFiles(set)
	set.Texts(&o.request.Series, "series")
	set.Number(&o.request.SeriesCount, "series-count", 1)
	set.Switch(&o.request.AllowGaps, "allow-gaps")
	set.Texts(&o.request.PartsIn, "parts-in")
	set.Value(&option.Wait{To: &o.request.Wait}, "wait")
}

// addFiles adds those that find archives of one file each.
func (o *sourceOptions) addFiles(set *option.Set) {
	set.Switch(&o.request.Recursive, "recursive")
	set.Texts(&o.request.Archives, "archives")
	o.nameOptions.addTo(set)
	set.Value(&option.Wait{To: &o.request.Settled}, "settled")
	o.refuse = option.Either([]string{"keep", "refuse"}, false, true)
	set.Value(&o.refuse, "others")
	set.Value(&o.shard, "shard")
	set.Value(&option.Encoding{To: &o.reading.Encoding, All: o.encodings}, "name-encoding")
	set.Value(&option.Zone{To: &o.reading.Zone}, "zone")
}

// addNested adds those of commands that look into archives inside others.
func (o *sourceOptions) addNested(set *option.Set) {
	o.depth = 3
	set.Switch(&o.nested, "nested")
	set.Number(&o.depth, "nested-depth", 1)
}

func (o *sourceOptions) check(cmd *cobra.Command, args []string, others bool) error {
	if !others || len(args) > 0 {
		if err := o.nameOptions.check(cmd, args); err != nil {
			return err
		}
	} else if err := onceInput(cmd, args); err != nil {
		return err
	}
	if page := cmd.Flags().Lookup("report"); page != nil && page.Changed {
		path, err := o.shard.perShare(page.Value.String())
		if err == nil {
			err = option.Put(page, path)
		}
		if err != nil {
			return usage(cmd, err)
		}
	}
	return o.request.Check()
}

// find finds the archives. Without a client, all of them have to be on disk.
func (o *sourceOptions) find(cmd *cobra.Command, args []string, s *streams, quiet bool, client *remote.Client) (sources []source.Source, err error) {
	if o.request.Names, err = o.names(cmd, args); err != nil {
		return nil, err
	}
	if o.request.Remote = client; client == nil {
		if err := onDisk(cmd, o.request.Names...); err != nil {
			return nil, err
		}
	}
	o.request.Input = cmd.InOrStdin()
	o.request.Left = func(s source.Source) { o.left = append(o.left, s.Path) }
	o.request.RefuseOthers, o.request.Others = o.refuse.Value(), func(byExtension map[string]int) { s.NotTaken = byExtension }
	if sources, err = source.Find(cmd.Context(), o.request); err != nil {
		return nil, err
	}
	if len(o.left) > 0 && (!quiet || len(sources) == 0) {
		s.Warn(fmt.Sprintf("left alone, modified less than %s ago: %s", cmd.Flags().Lookup("settled").Value, show.Count(len(o.left), "archive")+", "+parts.Shorten(o.left)))
	}
	if len(sources) > 0 && !quiet {
		for _, folder := range source.Barren(o.request.Names, sources) {
			text := "no archive in " + folder
			if into := cmd.Flags().Lookup("into"); into != nil && !into.Changed {
				text += "; where archives are to go is said with --into " + folder
			}
			s.Warn(text)
		}
	}
	if len(s.NotTaken) > 0 && len(o.request.Archives) == 0 && !quiet {
		s.Warn("not taken: " + show.Extensions(s.NotTaken))
	}
	if o.shard.Count > 0 {
		sources, o.others = o.shard.Of(sources)
	}
	return sources, nil
}

// nothing says why there is no archive to deal with.
func (o *sourceOptions) nothing(cmd *cobra.Command, s *show.Screen) {
	named := s.Name(o.named())
	if len(o.left) > 0 {
		s.Printf("No archive in %s has settled: nothing to do.\n", named)
		return
	}
	switch below := o.below(cmd); {
	case below > 0:
		s.Printf("No archive in %s itself: nothing to do. In the folders below it, --recursive finds %s.\n", named, show.Number(below))
	case len(o.request.Archives) > 0:
		s.Printf("No archive in %s matches %s: nothing to do.\n", named, s.Name(strings.Join(o.request.Archives, ", ")))
	default:
		s.Printf("No archive in %s: nothing to do.\n", named)
	}
}

// below is how many archives would have been found in the folders below.
func (o *sourceOptions) below(cmd *cobra.Command) int {
	r := o.request
	if r.Recursive {
		return 0
	}
	r.Recursive, r.Begun, r.Wait, r.Settled, r.Left, r.Others, r.RefuseOthers = true, nil, 0, 0, nil, nil, false
	r.Names = slices.DeleteFunc(slices.Clone(r.Names), remote.IsAddress) // a server may make up folders without end
	r.Pairs = slices.DeleteFunc(slices.Clone(r.Pairs), func(p source.Pair) bool { return remote.IsAddress(p.Source) })
	sources, err := source.Find(cmd.Context(), r)
	if err != nil {
		return 0 // this is only for a hint
	}
	if o.shard.Count > 0 {
		sources, _ = o.shard.Of(sources)
	}
	return len(sources)
}

// nameOptions name more sources than the command line.
type nameOptions struct {
	sourceList string
	nullIn     bool
}

func (o *nameOptions) addTo(set *option.Set) {
	set.Text(&o.sourceList, "source-list")
	set.Switch(&o.nullIn, "null-in")
}

func (o *nameOptions) check(cmd *cobra.Command, args []string) error {
	if len(args) == 0 && o.sourceList == "" {
		return usage(cmd, lacking{errors.New("no source is named")})
	}
	return onceInput(cmd, args)
}

// names are those of the command line, and then those of the list.
func (o *nameOptions) names(cmd *cobra.Command, args []string) (names []string, err error) {
	names = args
	if o.sourceList == "" {
		return names, nil
	}
	err = readFile(cmd, o.sourceList, func(r io.Reader) error {
		more, err := source.ReadList(r, o.nullIn)
		names = append(names, more...)
		return err
	})
	return names, err
}

// files is names where they are all files and folders.
func (o *nameOptions) files(cmd *cobra.Command, args []string) ([]string, error) {
	names, err := o.names(cmd, args)
	if err != nil {
		return nil, err
	}
	return source.Expand(names)
}

// nestedDepth is 0 without --nested.
func (o *sourceOptions) nestedDepth() int {
	if o.nested {
		return o.depth
	}
	return 0
}

// named is what was given, for people.
func (o *sourceOptions) named() string {
	names := "the list"
	if len(o.request.Names) > 0 {
		names = strings.Join(o.request.Names, ", ")
	}
	if o.shard.Count > 0 {
		names = fmt.Sprintf("share %s of %s", &o.shard, names)
	}
	return names
}

// onDisk refuses addresses where only files will do.
func onDisk(cmd *cobra.Command, paths ...string) error {
	for _, path := range paths {
		if remote.IsAddress(path) {
			return usage(cmd, fmt.Errorf("%s is an address, and this has to be a file", path))
		}
	}
	return nil
}

// readFile reads a file of names; "-" is standard input.
func readFile(cmd *cobra.Command, path string, read func(io.Reader) error) error {
	if path == "-" {
		return fault.At("standard input", read(cmd.InOrStdin()))
	}
	if err := onDisk(cmd, path); err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return fault.Reading(path, err)
	}
	defer f.Close()
	return fault.At(path, read(f))
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
