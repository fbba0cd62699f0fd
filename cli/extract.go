package cli

import (
	"errors"
	"fmt"
	"io"
	"runtime"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/choose"
	"widecrate/core/extract"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

type extractCommand struct {
	*streams
	archiveOptions
	placementOptions
	outputOptions
	progressOption
	pairs   string
	after   extract.After
	dryRun  bool
	workers int
	halt    bool

	streaming bool // standard output holds the data itself
}

func newExtract(s *streams) *cobra.Command {
	c := &extractCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "extract SOURCE… [OPTION…]",
		Short: "Unpack many archives",
		Long: `extract unpacks archives: files, and folders for the archives in them. Each gets
a folder of its own, named after it, beside it or below --into; or all are
merged into one. An archive is put into place whole or not at all, and one that
fails does not stop the others.`,
		Example: `  widecrate extract readings --into landing --ext csv --no-clutter
  widecrate extract "corrections/osk bay [v1].zip" --into landing --dry-run
  widecrate extract readings --into pictures --layout shared --ext png
  widecrate extract bundles --into year --nested --ext csv --no-clutter
  widecrate extract readings --into charts --ext png --rename "{archive}{ext}"
  widecrate extract corrections --into - --entry levels.csv
  widecrate extract survey/harbour.zip --into survey-grids
  widecrate extract instruments --into suite --series "suite-{n}.tar"`,
		RunE: c.run,
	}
	f := cmd.Flags()
	group(cmd, "Which archives", func() {
		c.sourceOptions.addTo(cmd)
		f.StringVar(&c.pairs, "pairs", "", "lines of a source, a tab, and a destination root of its own: a `FILE`")
	})
	group(cmd, "Which entries", func() { c.selectionOptions.addTo(cmd) })
	group(cmd, "Where they go", func() { c.placementOptions.addTo(cmd) })
	group(cmd, "How it runs", func() {
		f.BoolVar(&c.dryRun, "dry-run", false, "say what would be done, to the last path; write nothing")
		f.Var(disposition{&c.after}, "after", "what becomes of an archive of which everything was delivered, clutter aside")
		f.BoolVar(&c.after.EvenIfPartial, "even-if-partial", false, "with --after, also where something was left out")
		f.IntVar(&c.workers, "workers", runtime.NumCPU(), "how many work at once, a `NUMBER`")
		f.BoolVar(&c.reading.Salvage, "salvage", false, "take what can be had from a damaged archive; what is lost is named")
		f.BoolVar(&c.halt, "halt", false, "take no further archive after one that fails")
		c.passwordOptions.addTo(cmd)
		c.limitOptions.addTo(cmd)
	})
	group(cmd, "What is printed", func() {
		c.outputOptions.addTo(cmd, "what standard output holds: text for people, JSON Lines, or the written paths", "text")
		c.progressOption.addTo(cmd)
	})
	return cmd
}

// check finds options that do not go together.
func (c *extractCommand) check() error {
	switch {
	case c.workers < 1:
		return errors.New("--workers must be at least 1")
	case c.Peel < 0:
		return errors.New("--peel must be at least 0")
	case c.fresh && c.layout.Value() == place.Shared:
		return errors.New("--fresh swaps own folders; there are none with --layout shared")
	case c.fresh && c.nested:
		return errors.New("--fresh and --nested do not go together: inner archives go into the folder of the outer one")
	case c.Into == "-" && (c.as.Value() != asText || c.dryRun || c.after.Disposition != extract.Keep):
		return errors.New("--into - writes data to standard output; --as, --dry-run and --after do not go with it")
	}
	return nil
}

func (c *extractCommand) run(cmd *cobra.Command, args []string) error {
	if err := c.check(); err != nil {
		return usage(cmd, err)
	}
	c.apply(c.streams)
	if c.pairs != "" {
		err := readFile(cmd, c.pairs, func(r io.Reader) (err error) {
			c.request.Pairs, err = source.ReadPairs(r)
			return err
		})
		if err != nil {
			return err
		}
	}
	sources, selection, err := c.resolve(cmd, args, c.streams)
	if err != nil {
		return err
	}
	if len(sources) == 0 {
		if !c.quiet {
			c.summary(c.streams).Printf("No archive in %s: nothing to do.\n", c.out.Name(c.named()))
		}
		return nil
	}
	return c.extract(cmd, sources, selection)
}

func (c *extractCommand) extract(cmd *cobra.Command, sources []source.Source, selection *choose.Selection) error {
	c.Layout, c.Today = c.layout.Value(), time.Now()
	o := extract.Options{Sources: sources, Reading: c.reading, Selection: selection, Placement: &c.Placement,
		Rules: stage.Rules{Clash: c.clash.Value(), Fresh: c.fresh}, Links: c.links.Value(), Nested: c.nestedDepth(),
		Archives: c.request.Archives, Limits: c.limits(), After: c.after, Staging: c.staging, Workers: c.workers,
		Halt: c.halt, DryRun: c.dryRun, Progress: &extract.Progress{}}
	shown := &extractReport{extractCommand: c, started: time.Now()}
	stop := c.startProgress(sources, o.Progress)
	var err error
	if c.Into == "-" {
		c.streaming = true
		err = extract.Stream(cmd.Context(), o, c.out, shown.event)
	} else {
		err = extract.Run(cmd.Context(), o, shown.event)
	}
	stop()
	if err != nil {
		return err
	}
	shown.finish()
	if err := shown.failures.Err(); err != nil {
		return reported{err}
	}
	return c.checkMatches(selection, shown.totals.Kept, shown.totals.LeftOut, c.quiet)
}

// startProgress draws a line about how far the run is, until the function that
// it returns is called.
func (c *extractCommand) startProgress(sources []source.Source, done *extract.Progress) (stop func()) {
	var all int64
	for _, s := range sources {
		all += s.Size()
	}
	started := time.Now()
	return c.start(c.streams, c.quiet, func() string {
		bytes := done.Bytes.Load()
		return show.Rate(time.Since(started), bytes, done.Read.Load(), all,
			fmt.Sprintf("%s of %s archives", show.Number(int(done.Archives.Load())), show.Number(len(sources))),
			show.Count(int(done.Entries.Load()), "file"), show.Size(bytes))
	})
}
