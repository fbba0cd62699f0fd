package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/choose"
	"widecrate/core/extract"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/walk"
)

type extractCommand struct {
	*streams
	recordOptions
	listOption
	pageOption
	doneOptions
	archiveOptions
	placementOptions
	outputOptions
	progressOption
	pairs string     // the name of a file
	rows  [][]string // of a job file
	afterOptions
	dryRun  bool
	workers int
	halt    bool
}

func newExtract(s *streams) *cobra.Command {
	c := &extractCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "extract SOURCE… [OPTION…]",
		Short: "Unpack many archives",
		Long: `extract unpacks archives. A source is an archive, a folder (the archives in it),
an http or https address, or - for standard input. Each archive gets its own
folder with its name, below --into or beside the archive; or all are merged into
one folder. An archive is put into place whole or not at all. If one fails, the
others are still unpacked.`,
		Example: `  widecrate extract readings --into landing --ext csv --no-clutter
  widecrate extract "corrections/osk bay [v1].zip" --into landing --dry-run
  widecrate extract readings --into pictures --layout shared --ext png
  widecrate extract bundles --into year --nested --ext csv --no-clutter
  widecrate extract readings --into charts --ext png --rename "{archive}{ext}"
  widecrate extract corrections --into - --entry levels.csv
  widecrate extract survey/harbour.zip --into survey-grids
  widecrate extract logs --into landing --dictionary logs/lines.dict
  widecrate extract instruments --into suite --series "suite-{n}.tar"
  widecrate extract http://gauges.example/bundles/osk-bay.zip --into may
  widecrate extract sftp://tide@gauges.example/srv/tidewatch/bundles/ --into may
  widecrate extract bundles --into new --receipt done.jsonl --skip-done
  widecrate extract readings --into landing --failed move=failed
  widecrate extract bundles --into share --shard 0/4 --report page-{shard}.html`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("Which archives", func() {
		c.sourceOptions.addTo(set)
		c.addNested(set)
		set.Value(option.Pairs{File: &c.pairs, Rows: &c.rows}, "pairs")
		c.listOption.addTo(set)
	})
	set.Group("Which entries", func() { c.selectionOptions.addTo(set) })
	set.Group("Where they go", func() { c.placementOptions.addTo(set) })
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		c.addAfter(set)
		c.addFailed(set)
		set.Number(&c.workers, "workers", 1)
		set.Switch(&c.reading.Salvage, "salvage")
		set.Switch(&c.halt, "halt")
		c.passwordOptions.addTo(set)
		c.decodeOptions.addTo(set)
	})
	set.Group("Archives at addresses", func() {
		c.remoteOptions.addTo(set)
		c.addFetched(set)
	})
	set.Group("What was done", func() {
		c.recordOptions.addTo(set)
		c.doneOptions.addTo(set)
		c.pageOption.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "csv")
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *extractCommand) check(cmd *cobra.Command, args []string) error {
	c.addPairs(c.rows)
	if err := c.doneOptions.check(cmd, c.receipt); err != nil {
		return err
	}
	return c.archiveOptions.check(cmd, args, c.pairs != "" || c.rows != nil)
}

func (c *extractCommand) addPairs(rows [][]string) {
	for _, row := range rows {
		c.request.Pairs = append(c.request.Pairs, source.PairOf(row))
	}
}

func (c *extractCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.Deeds()
	if !c.dryRun {
		c.pageOption.begin(cmd, c.streams)
		defer c.pageOption.finish(&err)
	}
	if c.pairs != "" {
		err := readFile(cmd, c.pairs, func(r io.Reader) error {
			rows, err := source.ReadPairs(r, source.PairTitles...)
			c.addPairs(rows)
			return err
		})
		if err != nil {
			return err
		}
	}
	c.afterOptions.look(&c.request, c.dryRun)
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err == nil {
		err = c.checkWritten(cmd, r.Sources)
	}
	if err != nil {
		return err
	}
	if len(r.Sources) == 0 {
		if !c.quiet {
			c.nothing(cmd, c.Summary())
		}
		if err := c.recordOptions.begin(cmd, c.streams, nil, c.dryRun); err != nil {
			return err
		}
		return c.recordOptions.finish(c.dryRun, nil)
	}
	return c.extract(cmd, r)
}

func (c *extractCommand) extract(cmd *cobra.Command, r walk.Request) (err error) {
	c.Layout, c.Names, c.Today = c.layout.Value(), c.names.Value(), time.Now()
	if r.Workers = c.workers; c.dryRun {
		r.Fetched = ""
	}
	if r.Sums, err = c.lists(cmd, r.Sources...); err != nil {
		return err
	}
	o := extract.Options{Request: r, Others: c.others, Placement: &c.Placement,
		Rules: stage.Rules{Clash: c.clash.Value(), Fresh: c.fresh, Keep: c.keepIn()}, Links: c.links.Value(), After: c.after, Failed: c.failed, Staging: c.staging,
		Halt: c.halt, DryRun: c.dryRun, Progress: &extract.Progress{}, Hash: c.wanted() && !c.dryRun, Prove: c.receipt != "" && !c.dryRun, Needed: c.needed(cmd)}
	if o.Alone, err = c.alone(cmd, r.Sources); err != nil {
		return err
	}
	earlier, err := c.load(cmd, c.streams, c.receipt, &c.selectionOptions)
	if err != nil {
		return err
	}
	if earlier != nil {
		defer earlier.Close()
		o.Done = earlier.delivered
	}
	release, roots := c.confine(cmd, r.Sources)
	defer release()
	if err := c.recordOptions.begin(cmd, c.streams, roots, c.dryRun); err != nil {
		return err
	}
	if c.writer != nil {
		o.BeforeDisposal = c.writer.Sync
	}
	shown := &show.Extraction{Output: &c.Output, DryRun: c.dryRun, Streaming: c.Into == "-", Nested: c.nested, Shared: c.Layout == place.Shared, Started: time.Now()}
	stop := c.startProgress(r.Sources, o.Progress)
	if shown.Streaming {
		err = extract.Stream(cmd.Context(), o, c.Out, shown.Event)
	} else {
		err = extract.Run(cmd.Context(), o, func(e report.Event) {
			c.recordOptions.event(e, c.Into)
			c.pageOption.event(e)
			shown.Event(e)
		})
	}
	stop()
	recorded := c.recordOptions.finish(c.dryRun, err)
	if err != nil {
		return err
	}
	shown.Finish()
	if shown.Totals.Done > 0 { // what was done before was not looked into: nobody knows what matched there
		return c.both(shownError(&shown.Failures), recorded)
	}
	ending := c.ending(cmd, &shown.Failures, r.Selection, shown.Totals.Kept, shown.Totals.LeftOut, c.quiet)
	for _, alone := range o.Alone {
		if alone.Selection == nil {
			continue
		}
		if _, err := report.Matches(alone.Selection, shown.Totals.Kept, shown.Totals.LeftOut, shown.Failures.Count() > 0); err != nil && shown.Failures.Count() == 0 {
			ending = err // which says more
		}
	}
	return c.both(ending, recorded)
}

// alone is what rows of --pairs say for themselves.
func (c *extractCommand) alone(cmd *cobra.Command, sources []source.Source) (map[string]extract.Alone, error) {
	all := map[string]extract.Alone{}
	for _, s := range sources {
		own := s.To().Own
		if _, known := all[own.String()]; own == nil || known {
			continue
		}
		var a extract.Alone
		var err error
		wrong := func(err error) error { return usage(cmd, fmt.Errorf("--pairs, of %s: %w", s.Path, err)) }
		if own.OwnName != "" {
			if a.OwnName, err = place.NewTemplate(own.OwnName, ownNamePlaceholders...); err != nil {
				return nil, wrong(err)
			}
		}
		if own.Ext+own.Entry != "" {
			rules := c.rules
			if own.Ext != "" {
				rules.Ext = strings.FieldsFunc(own.Ext, func(c rune) bool { return c == ',' || c == ' ' })
			}
			if own.Entry != "" {
				rules.Entry = []string{own.Entry}
			}
			if a.Selection, err = choose.New(rules); err != nil {
				return nil, wrong(err)
			}
		}
		if own.PasswordEnv != "" {
			password, set := os.LookupEnv(own.PasswordEnv)
			if !set {
				return nil, wrong(fmt.Errorf("the environment has no variable %s", own.PasswordEnv))
			}
			a.Passwords = []string{password}
		}
		all[own.String()] = a
	}
	return all, nil
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
		parts := []string{fmt.Sprintf("%s of %s archives", show.Number(int(done.Archives.Load())), show.Number(len(sources)))}
		if kept := done.Kept.Load(); kept > 0 {
			parts = append(parts, show.Size(kept)+" fetched beforehand")
		}
		parts = append(parts, show.Count(int(done.Entries.Load()), "file"), show.Size(bytes))
		return show.Rate(time.Since(started), bytes, done.Read.Load(), all+done.Expected.Load(), parts...)
	})
}
