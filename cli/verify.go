package cli

import (
	"errors"
	"runtime"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/plan"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/verify"
)

type verifyCommand struct {
	*streams
	archiveOptions
	outputOptions
	progressOption
	pageOption
	listOption
	afterOptions
	workers int
	halt    bool
	dryRun  bool
	links   option.Choice[plan.Links]
	against []string
	sums    string
}

func newVerify(s *streams) *cobra.Command {
	c := &verifyCommand{streams: s, workers: runtime.NumCPU()}
	cmd := &cobra.Command{
		Use:   "verify SOURCE… [OPTION…]",
		Short: "Decode everything, check every checksum, write nothing",
		Long: `verify decodes everything in archives and checks it: sizes, checksums, and
authentication codes where there are any. Each damaged entry is named, with the
offset of its header, and each that extract would refuse as unsafe. Nothing is
written. A source is an archive, a folder (the
archives in it), an http or https address, or - for standard input.`,
		Example: `  widecrate verify readings
  widecrate verify bundles --nested
  widecrate verify readings --as json --ext csv
  widecrate verify bundles/osk-bay.zip --sums sums.txt
  widecrate verify http://gauges.example/bundles/osk-bay.zip --nested`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.archiveOptions.addTo(set, true, true)
	c.links = option.Either([]string{"keep", "rebase", "skip"}, plan.KeepLinks, plan.RebaseLinks, plan.SkipLinks)
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Value(&c.links, "links")
		set.Texts(&c.against, "against")
		set.Text(&c.sums, "sums")
		c.listOption.addTo(set)
		c.pageOption.addTo(set)
		set.Number(&c.workers, "workers", 1)
		set.Switch(&c.halt, "halt")
		c.addFailed(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *verifyCommand) check(cmd *cobra.Command, args []string) error {
	if c.against != nil && (len(args) > 0 || c.sourceList != "" || c.sums != "") {
		return usage(cmd, errors.New("--against takes the place of archives and of lists of sums: leave them out"))
	}
	return c.archiveOptions.check(cmd, args, c.against != nil)
}

func (c *verifyCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	if !c.dryRun {
		c.pageOption.begin(cmd, c.streams)
		defer c.pageOption.finish(&err)
	}
	if c.against != nil {
		return c.verifyDelivered(cmd)
	}
	c.afterOptions.look(&c.request, c.dryRun)
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err == nil {
		err = c.checkWritten(cmd, r.Sources)
	}
	if err != nil {
		return err
	}
	if r.Sums, err = c.lists(cmd, r.Sources...); err != nil {
		return err
	}
	if c.dryRun {
		return c.foretell(cmd, r.Sources)
	}
	r.Workers = c.workers
	var decoded, done atomic.Int64
	o := verify.Options{Request: r, Failed: c.failed, Begun: c.begun, Links: c.links.Value(), Hash: c.sums != "", Halt: c.halt, Decoded: &decoded}
	shown := show.Checking{Output: &c.Output, Single: len(r.Sources) == 1 && !c.nested, Started: time.Now()}
	release, _ := c.confine(cmd, r.Sources)
	defer release()
	stop := c.startArchives(c.streams, c.quiet, &decoded, &done, len(r.Sources))
	err = verify.Run(cmd.Context(), o, func(e report.Event) {
		done.Add(1)
		c.pageOption.event(e)
		shown.Event(e)
	})
	stop()
	if err != nil {
		return err
	}
	var listed error
	if c.sums != "" {
		listed = shown.List.Write(c.sites, c.sums, shown.Failures.Count() == 0 && c.shard.Count == 0)
	}
	if len(r.Sources) > 0 {
		shown.Finish()
	} else if !c.quiet {
		c.nothing(cmd, c.Summary())
	}
	return c.both(c.ending(cmd, &shown.Failures, r.Selection, shown.Entries, shown.LeftOut, c.quiet), listed)
}

// foretell says which archives would be checked.
func (c *verifyCommand) foretell(cmd *cobra.Command, sources []source.Source) error {
	shown := show.Checking{Output: &c.Output, DryRun: true, Started: time.Now()}
	for _, s := range sources {
		shown.Event(&report.Verified{Archive: s.Path, DryRun: true, Err: s.Err()})
	}
	if len(sources) > 0 {
		shown.Finish()
	} else if !c.quiet {
		c.nothing(cmd, c.Summary())
	}
	return shownError(&shown.Failures)
}

// verifyDelivered checks what earlier runs delivered.
func (c *verifyCommand) verifyDelivered(cmd *cobra.Command) error {
	c.connect(cmd, c.streams)
	shown := show.Delivered{Output: &c.Output, Started: time.Now()}
	for _, path := range c.against {
		if err := checkReceipt(c.sites, path); err != nil {
			return err
		}
	}
	earlier, err := receipt.Load(c.sites, c.against...)
	if err != nil {
		return err
	}
	defer earlier.Close()
	for _, remark := range earlier.Remarks {
		c.Warn(remark)
	}
	if c.dryRun {
		files, err := earlier.Delivered()
		if err == nil && !c.quiet {
			c.Summary().Printf("%s would be compared with the receipt\n", show.Count(len(files), "file"))
		}
		return err
	}
	if err := earlier.Check(cmd.Context(), c.workers, shown.File); err != nil {
		return err
	}
	shown.Finish()
	return shownError(&shown.Failures)
}
