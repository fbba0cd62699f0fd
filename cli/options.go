package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// Every option that more than one command has is declared here, once.

// archiveOptions are those of all commands that read archives: which, which of
// their entries, and how they are opened.
type archiveOptions struct {
	sourceOptions
	selectionOptions
	passwordOptions
	limitOptions
}

// resolve finds the archives and the selection, and completes the options of
// reading.
func (o *archiveOptions) resolve(cmd *cobra.Command, args []string, s *streams) ([]source.Source, *choose.Selection, error) {
	selection, err := o.selection(cmd)
	if err != nil {
		return nil, nil, err
	}
	sources, err := o.sources(cmd, args)
	if err != nil {
		return nil, nil, err
	}
	o.reading.MaxMemory = int64(o.memory)
	o.reading.Passwords, err = o.passwords(cmd, s)
	return sources, selection, err
}

// sourceOptions find archives.
type sourceOptions struct {
	request source.Request
	list    string
	nullIn  bool
	nested  bool
	depth   int
	reading archive.Options
}

func (o *sourceOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&o.request.Recursive, "recursive", false, "look in the folders below too; own folders then mirror them below the destination")
	f.StringArrayVar(&o.request.Archives, "archives", nil, "in a folder, or nested, take what matches this `PATTERN`, whatever its extension (repeatable)")
	f.StringVar(&o.list, "source-list", "", "more sources, one a line of this `FILE` (-: standard input)")
	f.BoolVar(&o.nullIn, "null-in", false, "in the source list, a NUL ends each name")
	f.StringArrayVar(&o.request.Series, "series", nil, "a `NAME` with {n} in it, such as 'suite-{n}.tar': the archives of such names are one, merged in the order of their numbers, with one folder (repeatable)")
	f.BoolVar(&o.request.AllowGaps, "allow-gaps", false, "a series may lack numbers")
	partsInOption(cmd, &o.request.PartsIn)
	f.DurationVar(&o.request.Wait, "wait", 0, "wait so long, a `TIME` such as 10m, for parts of sets that are still arriving")
	f.Var(&nameEncoding{&o.reading.Encoding}, "name-encoding", "the encoding of entry names that do not say theirs, a `NAME` such as cp932 or windows-1251; detected when left out")
	f.Var(&zone{&o.reading.Zone}, "zone", "the time zone of entry times that do not say, a `NAME` such as UTC or Asia/Tokyo; the local one when left out")
	f.BoolVar(&o.nested, "nested", false, "also open the archives found inside; the selection is then on what they hold")
	f.IntVar(&o.depth, "nested-depth", 3, "how deep, a `NUMBER`")
}

// sources finds the archives of a command line.
func (o *sourceOptions) sources(cmd *cobra.Command, args []string) ([]source.Source, error) {
	if len(args) == 0 && o.list == "" && len(o.request.Pairs) == 0 {
		return nil, usage(cmd, fmt.Errorf("no source is named"))
	}
	if o.depth < 1 {
		return nil, usage(cmd, fmt.Errorf("--nested-depth must be at least 1"))
	}
	o.request.Names = args
	if o.list != "" {
		err := readFile(cmd, o.list, func(r io.Reader) error {
			names, err := source.ReadList(r, o.nullIn)
			o.request.Names = append(o.request.Names, names...)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return source.Find(cmd.Context(), o.request)
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
	if len(o.request.Names) == 0 {
		return "the list"
	}
	return strings.Join(o.request.Names, ", ")
}

// readFile reads a file of names; "-" is standard input.
func readFile(cmd *cobra.Command, path string, read func(io.Reader) error) error {
	if path == "-" {
		return fault.At("standard input", read(cmd.InOrStdin()))
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
	min, max     size
	since, until moment
}

func (o *selectionOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&o.rules.Entry, "entry", nil, "keep the entry with this `PATH`, to the letter (repeatable)")
	f.StringVar(&o.list, "entry-list", "", "the same for each line of this `FILE` (-: standard input)")
	f.StringArrayVar(&o.rules.Pick, "pick", nil, "keep entries that match this `PATTERN`, such as 'chart*' or 'charts/**' (repeatable: any of them)")
	f.StringArrayVar(&o.rules.Drop, "drop", nil, "leave out entries that match this `PATTERN`; stronger than the rest (repeatable)")
	f.StringSliceVar(&o.rules.Ext, "ext", nil, "keep only these extensions, a `LIST` such as csv,tsv; letter case is ignored")
	f.BoolVar(&o.rules.NoClutter, "no-clutter", false, "leave out what desktop systems add: hidden twins, thumbnails, folder settings")
	f.Var(&o.min, "min-size", "keep only files of at least this `SIZE`: 500, 10k, 2.5M, 1G")
	f.Var(&o.max, "max-size", "keep only files of at most this `SIZE`")
	f.Var(&o.since, "since", "keep only what was modified since a date, a date and time, or an age such as 36h or 7d")
	o.until.end = true
	f.Var(&o.until, "until", "keep only what was modified until then; a date counts to its end")
	f.BoolVar(&o.rules.IgnoreCase, "ignore-case", false, "for entry, pick and drop, letter case does not count")
}

func (o *selectionOptions) selection(cmd *cobra.Command) (*choose.Selection, error) {
	if o.list != "" {
		err := readFile(cmd, o.list, func(r io.Reader) error {
			names, err := source.ReadList(r, false)
			o.rules.Entry = append(o.rules.Entry, names...)
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

// checkMatches looks at what the rules did: what matched nothing beside others is
// a warning, the rest an error.
func (s *streams) checkMatches(selection *choose.Selection, kept int, leftOut choose.Tally, quiet bool) error {
	unmatched, err := report.Matches(selection, kept, leftOut)
	if !quiet {
		for _, text := range unmatched {
			s.warn("nothing matched " + text)
		}
	}
	return err
}

// placementOptions say where entries go.
type placementOptions struct {
	place.Placement
	layout  choice[place.Layout]
	clash   choice[stage.Clash]
	links   choice[plan.Links]
	fresh   bool
	staging string
}

// renamePlaceholders are those of --rename.
var renamePlaceholders = []string{"name", "stem", "ext", "archive", "parent", "n", "modified", "today"}

func (o *placementOptions) addTo(cmd *cobra.Command) {
	o.layout = choice[place.Layout]{words: []string{"own", "shared", "auto"}, values: []place.Layout{place.Own, place.Shared, place.Auto}}
	o.clash = choice[stage.Clash]{words: []string{"refuse", "skip", "replace", "newer", "number"},
		values: []stage.Clash{stage.Refuse, stage.Skip, stage.Replace, stage.Newer, stage.Number}}
	o.links = choice[plan.Links]{words: []string{"keep", "skip", "refuse"}, values: []plan.Links{plan.KeepLinks, plan.SkipLinks, plan.RefuseLinks}}
	f := cmd.Flags()
	f.StringVar(&o.Into, "into", "", "destination root `DIR`, made if missing, or the folder that each archive lies in when left out; -: the data itself goes to standard output")
	o.layout.addTo(cmd, "layout", "own: a folder for each archive, named after it; shared: all into the root, merged in order; auto: as own, but a single top folder is not wrapped again")
	f.Var(&template{to: &o.OwnName, allowed: []string{"stem", "name", "parent", "today"}}, "own-name", "the own folder's name, such as '{parent}-{stem}'")
	f.BoolVar(&o.Flatten, "flatten", false, "drop the folders inside")
	f.IntVar(&o.Peel, "peel", 0, "drop the first `NUMBER` folders of each path; what has no more than that is left out")
	f.Var(&template{to: &o.Rename, allowed: renamePlaceholders}, "rename",
		"new last names, such as 'chart-{nnn}{ext}': {name} {stem} {ext} {archive} {parent} {n} {nnn} {modified} {today}")
	o.clash.addTo(cmd, "clash", "where a file differs from one that is there. refuse: nothing of that archive is unpacked; skip: keep what is there; replace: take the archive's; newer: the later one; number: keep both, name-2.ext")
	f.BoolVar(&o.fresh, "fresh", false, "swap the whole own folder for the new one: nothing of an earlier run stays")
	o.links.addTo(cmd, "links", "symbolic and hard links inside archives: made, left out, or a reason to refuse the archive")
	f.StringVar(&o.staging, "staging", "", "`DIR` for unfinished work, on the same file system; a hidden folder in the root when left out")
}

// limitOptions hold against hostile archives.
type limitOptions struct {
	total, memory  size
	ratio, entries int64
}

func (o *limitOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.Var(&o.total, "max-total", "refuse an archive that unpacks to more than this `SIZE`; what is free on the disk when left out")
	f.Int64Var(&o.ratio, "max-ratio", 0, fmt.Sprintf("refuse an archive that unpacks to more than this `NUMBER` of times its size, and to more than 1G; %d when left out", bound.DefaultRatio))
	f.Var(&o.memory, "max-memory", "refuse data whose header asks for more memory than this `SIZE` to decode it; 1G when left out")
	f.Int64Var(&o.entries, "max-entries", 0, fmt.Sprintf("refuse an archive with more entries than this `NUMBER`; %s when left out", show.Number(bound.DefaultEntries)))
}

func (o *limitOptions) limits() bound.Limits {
	return bound.Limits{Total: int64(o.total), Ratio: o.ratio, Entries: o.entries}
}

// form is what standard output holds.
type form uint8

const (
	asText form = iota // a table, or what people read
	asJSON
	asNames
	asTree
	asCSV
)

// when is for things that depend on whether there is a terminal.
type when uint8

const (
	auto when = iota
	always
	never
)

func whenChoice() choice[when] {
	return choice[when]{words: []string{"auto", "always", "never"}, values: []when{auto, always, never}}
}

// progressOption is for the commands that may take long.
type progressOption struct{ progress choice[when] }

func (o *progressOption) addTo(cmd *cobra.Command) {
	o.progress = whenChoice()
	o.progress.addTo(cmd, "progress", "a line of progress on standard error; auto: on a terminal")
}

// start draws a line about how far the run is, until the function that it
// returns is called.
func (o *progressOption) start(s *streams, quiet bool, text func() string) (stop func()) {
	if when := o.progress.Value(); quiet || when == never || when == auto && !s.err.Terminal {
		return func() {}
	}
	return show.StartProgress(s.err, text, s.out).Stop
}

// startBytes is the same where bytes are all there is to tell; all is how many
// there will be, 0 if that is not known.
func (o *progressOption) startBytes(s *streams, quiet bool, done *atomic.Int64, all int64) (stop func()) {
	started := time.Now()
	return o.start(s, quiet, func() string {
		text := show.Size(done.Load())
		if all > 0 {
			text += " of " + show.Size(all)
		}
		return show.Rate(time.Since(started), done.Load(), done.Load(), all, text)
	})
}

// outputOptions shape what is printed.
type outputOptions struct {
	as      choice[form]
	nullOut bool
	color   choice[when]
	quiet   bool
	verbose bool
}

// addTo declares them; forms are the words of --as in addition to json and
// names, the first of them the one when it is left out.
func (o *outputOptions) addTo(cmd *cobra.Command, help string, first string, more ...string) {
	values := map[string]form{"tree": asTree, "csv": asCSV}
	o.as = choice[form]{words: []string{first, "json", "names"}, values: []form{asText, asJSON, asNames}}
	for _, word := range more {
		o.as.words, o.as.values = append(o.as.words, word), append(o.as.values, values[word])
	}
	o.color = whenChoice()
	f := cmd.Flags()
	o.as.addTo(cmd, "as", help)
	f.BoolVar(&o.nullOut, "null-out", false, "with names, a NUL after each instead of a line end")
	o.color.addTo(cmd, "color", "colours; auto: on a terminal, unless NO_COLOR is set")
	f.BoolVarP(&o.quiet, "quiet", "q", false, "print errors only")
	f.BoolVarP(&o.verbose, "verbose", "v", false, "print more")
	cmd.MarkFlagsMutuallyExclusive("quiet", "verbose")
}

// apply makes the streams what the options ask for.
func (o *outputOptions) apply(s *streams) {
	if c := o.color.Value(); c != auto {
		s.out.SetColor(c == always)
		s.err.SetColor(c == always)
	}
}

// summary is where what people read goes: not among the data.
func (o *outputOptions) summary(s *streams) *show.Screen {
	if o.as.Value() == asText {
		return s.out
	}
	return s.err
}

// name prints a path in a list of them.
func (o *outputOptions) name(s *show.Screen, path string) {
	if o.nullOut {
		s.WriteString(path)
		s.WriteByte(0)
		return
	}
	s.WriteString(s.Name(path))
	s.WriteByte('\n')
}
