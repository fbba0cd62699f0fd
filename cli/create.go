package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
)

type createCommand struct {
	*streams
	selectionOptions
	outputOptions
	progressOption
	writingOptions
	passwordOptions
	top        choice[bool] // whether to drop it
	links      choice[create.Links]
	clash      choice[create.Clash]
	after      choice[bool] // whether to remove
	under      string
	relativeTo string
	givenOptions
	each         bool
	encrypt      bool
	reproducible bool
	readBack     bool
	dryRun       bool
	workers      int
}

func newCreate(s *streams) *cobra.Command {
	c := &createCommand{streams: s,
		top:   topChoice(),
		links: choice[create.Links]{words: []string{"keep", "follow", "skip"}, values: []create.Links{create.KeepLinks, create.FollowLinks, create.SkipLinks}},
		clash: clashChoice(),
		after: choice[bool]{words: []string{"keep", "remove"}, values: []bool{false, true}}}
	cmd := &cobra.Command{
		Use:   "create ARCHIVE SOURCE… [OPTION…]",
		Short: "Make an archive, or one for each source",
		Long: `create packs files and folders into one archive, whose format its extension
tells, or with --each into one archive for each. It compresses, and says what
that saved. All sources are looked for before anything is written, and an
archive appears when it is complete. Patterns are held against the paths that
the entries get in the archive. ARCHIVE - is standard output.`,
		Example: `  widecrate create hand-over.zip landing
  widecrate create hand-over.tar.zst landing --top drop --level best
  widecrate create tables.zip readings corrections --pick "osk*"
  widecrate create "out/{name}.tar.gz" readings bundles --each
  widecrate create notes.zip --text "notes/today.txt=All gauges report."
  widecrate create month.zip readings --part-size 100k --part-style zip
  widecrate create same.zip corrections --reproducible --read-back`,
		Args: cobra.MinimumNArgs(1),
		RunE: c.run,
	}
	f := cmd.Flags()
	group(cmd, "The archive", func() {
		c.writingOptions.addTo(cmd)
		c.clash.addTo(cmd, "clash", "what to do about an archive that exists already; number: name-2.zip")
		f.BoolVar(&c.encrypt, "encrypt", false, "lock the files with AES-256 (ZIP only), with a password from one of the options below. Their names are not hidden, and the openers built into desktop systems often cannot read it")
		c.passwordOptions.addTo(cmd)
		f.BoolVar(&c.reproducible, "reproducible", false, "the same files make the same bytes, on any machine and day: sorted, with one time (SOURCE_DATE_EPOCH, or 1980), and of the permissions only whether a file is a program")
		f.BoolVar(&c.each, "each", false, "one archive for each source; ARCHIVE is then a template with {name} {stem} {parent} {n} {today}")
	})
	group(cmd, "Which files", func() {
		c.givenOptions.addTo(cmd)
		c.links.addTo(cmd, "links", "symbolic links below the sources: stored as links, stored as what they point at, or left out")
		c.selectionOptions.addTo(cmd)
	})
	group(cmd, "Their paths in it", func() {
		c.top.addTo(cmd, "top", "whether the paths start with the name of a source folder")
		f.StringVar(&c.under, "under", "", "a `FOLDER` in front of the paths of all sources")
		f.StringVar(&c.relativeTo, "relative-to", "", "the paths are those below this `DIR`, in which the sources lie")
	})
	group(cmd, "How it runs", func() {
		f.BoolVar(&c.dryRun, "dry-run", false, "say what would be packed; write nothing")
		f.BoolVar(&c.readBack, "read-back", false, "read the archive again before it appears, and compare each entry with the checksum that its source had")
		c.after.addTo(cmd, "after", "what becomes of the sources; they are removed only when the archive was read back and nothing of them was left out")
		f.IntVar(&c.workers, "workers", runtime.NumCPU(), "how many work at once, a `NUMBER`")
	})
	group(cmd, "What is printed", func() {
		c.outputOptions.addTo(cmd, "what standard output holds: text for people, a line of JSON, or the archive's path", "text")
		c.progressOption.addTo(cmd)
	})
	return cmd
}

// writingOptions shape the archives that are written.
type writingOptions struct {
	cutOptions
	format, method string
	level          level
}

func (o *writingOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.format, "format", "", "the format, a `NAME` such as zip or tar.zst; by the extension when left out")
	f.StringVar(&o.method, "method", "", "how the entries of a ZIP are compressed, a `NAME`: deflate, store, bzip2, zstd or xz (left out: deflate)")
	f.Var(&o.level, "level", "how hard it tries: 0 to 9, or fast, normal, best")
	o.cutOptions.addTo(cmd)
}

// writing turns them into what the core wants.
func (o *writingOptions) writing(workers int) archive.WriteOptions {
	w := archive.WriteOptions{Method: o.method, Encode: o.level.options}
	w.Encode.Workers = workers
	return w
}

func (c *createCommand) check(args []string) error {
	given := c.count()
	switch {
	case len(args) < 2 && given == 0:
		return errors.New("no source is named")
	case c.workers < 1:
		return errors.New("--workers must be at least 1")
	case c.each && (given > 0 || len(args) < 2):
		return errors.New("--each makes an archive for each source; --put, --text and --stdin-as do not go with it")
	case c.relativeTo != "" && c.top.Value():
		return errors.New("--relative-to and --top drop do not go together: both say where the paths start")
	case args[0] == "-" && (c.as.Value() != asText || c.each || c.dryRun || c.format == ""):
		return errors.New("an archive on standard output needs --format, and neither --as, --each nor --dry-run goes with it")
	case args[0] == "-" && c.out.Terminal:
		return errors.New("standard output is a terminal; send the archive to a file or another command")
	}
	return nil
}

func (c *createCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	if err := c.check(args); err != nil {
		return usage(cmd, err)
	}
	o, err := c.options(cmd, args)
	if err != nil {
		return err
	}
	if c.each {
		return c.runEach(cmd, args[0], o)
	}
	var read atomic.Int64
	o.Read = &read
	stop := c.startBytes(c.streams, c.quiet, &read, 0)
	r, err := create.Run(cmd.Context(), o)
	stop()
	if err != nil {
		return err
	}
	c.report(r)
	return c.checkMatches(o.Selection, r.Files, r.LeftOut, c.quiet)
}

// options are what the core is asked for.
func (c *createCommand) options(cmd *cobra.Command, args []string) (o create.Options, err error) {
	o = create.Options{Archive: args[0], Sources: args[1:], DropTop: c.top.Value(), Under: c.under, RelativeTo: c.relativeTo,
		Links: c.links.Value(), Clash: c.clash.Value(), Writing: c.writing(c.workers), ReadBack: c.readBack, Remove: c.after.Value(),
		DryRun: c.dryRun, Workers: c.workers}
	if o.Selection, err = c.selection(cmd); err != nil {
		return o, err
	}
	if o.Format, err = create.FormatOf(args[0], c.format); err != nil {
		return o, err
	}
	if o.Cut, err = c.cut(cmd); err != nil {
		return o, err
	}
	if args[0] == "-" {
		o.Output = c.out
	}
	if err := c.give(cmd, &o); err != nil {
		return o, err
	}
	if c.reproducible {
		epoch, err := sourceDate()
		if err != nil {
			return o, usage(cmd, err)
		}
		o.Epoch = &epoch
	}
	o.Writing.Password, err = c.newPassword(cmd, c.streams, c.encrypt)
	return o, err
}

// givenOptions are entries that are named one by one.
type givenOptions struct {
	puts, texts []string
	stdinAs     string
}

func (o *givenOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&o.puts, "put", nil, "pack a file at a path of its own: `FILE=PATH` (repeatable)")
	f.StringArrayVar(&o.texts, "text", nil, "an entry with this text: `PATH=TEXT` (repeatable)")
	f.StringVar(&o.stdinAs, "stdin-as", "", "an entry at this `PATH` with what comes from standard input")
}

func (o *givenOptions) count() int {
	n := len(o.puts) + len(o.texts)
	if o.stdinAs != "" {
		n++
	}
	return n
}

// give adds them to what is to be packed.
func (o *givenOptions) give(cmd *cobra.Command, to *create.Options) error {
	for _, put := range o.puts {
		at := strings.LastIndex(put, "=")
		if at < 1 {
			return usage(cmd, fmt.Errorf("--put %q is not FILE=PATH", put))
		}
		to.Puts = append(to.Puts, create.Put{File: put[:at], Path: put[at+1:]})
	}
	for _, text := range o.texts {
		path, content, found := strings.Cut(text, "=")
		if !found {
			return usage(cmd, fmt.Errorf("--text %q is not PATH=TEXT", text))
		}
		to.Texts = append(to.Texts, create.Text{Path: path, Text: content})
	}
	if o.stdinAs != "" {
		to.Streams = []create.Stream{{Path: o.stdinAs, Data: cmd.InOrStdin()}}
	}
	return nil
}

// clashChoice is what happens to archives that exist already.
func clashChoice() choice[create.Clash] {
	return choice[create.Clash]{words: []string{"refuse", "replace", "number"}, values: []create.Clash{create.Refuse, create.Replace, create.Number}}
}

// topChoice is whether the name of a source folder is dropped.
func topChoice() choice[bool] {
	return choice[bool]{words: []string{"keep", "drop"}, values: []bool{false, true}}
}

// sourceDate is the time of all entries: that of the environment, or else the
// first that a ZIP can hold.
func sourceDate() (time.Time, error) {
	const variable = "SOURCE_DATE_EPOCH"
	text, set := os.LookupEnv(variable)
	if !set {
		return time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC), nil
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return time.Time{}, fmt.Errorf("%s is no number of seconds: %q", variable, text)
	}
	return time.Unix(seconds, 0).UTC(), nil
}

// runEach makes one archive for each source.
func (c *createCommand) runEach(cmd *cobra.Command, text string, o create.Options) error {
	t, err := place.NewTemplate(text, "name", "stem", "parent", "n", "today")
	if err != nil {
		return err
	}
	today := time.Now()
	name := func(path string, n int) string {
		if full, err := filepath.Abs(path); err == nil {
			path = full
		}
		return t.Expand(place.Values{Name: filepath.Base(path), Parent: filepath.Base(filepath.Dir(path)), Number: n, Today: today})
	}
	var read atomic.Int64
	o.Read = &read
	var failures report.Failures
	var files int
	var size, packed int64
	var leftOut choose.Tally
	stop := c.startBytes(c.streams, c.quiet, &read, 0)
	err = create.RunEach(cmd.Context(), o, name, func(e *create.EachResult) {
		if e.Err != nil {
			err := e.Err
			if fe, ok := errors.AsType[*fault.Error](err); !ok || fe.Where == "" {
				err = fault.At(e.Source, err)
			}
			failures.Add(err)
			c.problem(err)
			return
		}
		files += e.Result.Files
		size += e.Result.Size
		packed += e.Result.Packed
		leftOut.Add(e.Result.LeftOut)
		c.report(e.Result)
	})
	stop()
	if err != nil {
		return err
	}
	if !c.quiet {
		s := c.summary(c.streams)
		s.Printf("%s made: %s, %s packed into %s\n", s.Strong(show.Count(len(o.Sources)-failures.Count(), "archive")),
			show.Count(files, "file"), show.Size(size), show.Size(packed))
	}
	if err := failures.Err(); err != nil {
		return reported{err}
	}
	return c.checkMatches(o.Selection, files, leftOut, c.quiet)
}

func (c *createCommand) report(r *report.Created) {
	switch c.as.Value() {
	case asJSON:
		c.json(r)
	case asNames:
		c.nameArchive(c.out, r.Archive, r.Parts)
	}
	s := c.summary(c.streams)
	if r.Archive == "-" {
		s = c.err
	}
	if c.verbose || c.dryRun && c.as.Value() == asText {
		c.list(s, r)
	}
	if !c.quiet {
		c.summarize(s, r)
	}
	s.Flush()
}

func (c *createCommand) list(s *show.Screen, r *report.Created) {
	for _, e := range r.Entries {
		switch {
		case e.Kind == archive.Folder:
		case c.dryRun:
			s.Printf("  %9s  %s\n", show.Size(e.Size), s.Name(e.Path))
		case e.Kind == archive.File:
			s.Printf("  %9s → %9s  %-8s %s\n", show.Size(e.Size), show.Size(e.Packed), e.Method, s.Name(e.Path))
		}
	}
}

func (c *createCommand) summarize(s *show.Screen, r *report.Created) {
	s.Printf("%s\n", s.Strong(s.Name(r.Archive)))
	if c.dryRun {
		s.Printf("%s, %s would be packed; %s\n", show.Count(r.Files, "file"), show.Size(r.Size), r.LeftOut.String())
		return
	}
	s.Printf("%s, %s packed into %s", show.Count(r.Files, "file"), show.Size(r.Size), show.Size(r.Packed))
	if r.Packed < r.Size {
		s.Printf(": %s saved", s.Good(show.Saved(r.Size, r.Packed)))
	}
	s.Printf("; %s; %s\n", r.LeftOut.String(), show.Took(r.Took))
	if r.Parts != nil {
		tellParts(s, *r.Parts)
	}
	if c.encrypt {
		s.Printf("Locked with AES-256; the names of the entries are not hidden, and openers built into desktop systems often cannot read it.\n")
	}
	if r.ReadBack > 0 {
		s.Printf("%s read back: each is as it was packed\n", show.Count(r.ReadBack, "entry"))
	}
	switch {
	case r.Kept != "":
		s.Printf("The sources were kept: %s\n", s.Name(r.Kept))
	case r.Removed > 0:
		s.Printf("%s removed\n", show.Count(r.Removed, "source file"))
	}
	if r.Itself {
		s.Printf("The archive lies in a folder that was packed, and was left out of itself.\n")
	}
}
