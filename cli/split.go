package cli

import (
	"errors"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/parts/cut"
	"widecrate/core/source"
)

type splitCommand struct {
	*streams
	outputOptions
	progressOption
	remoteOptions
	cutOptions
	nameOptions
	manyOptions
	into  string
	clash option.Choice[bool]
}

func newPartsSplit(s *streams) *cobra.Command {
	c := &splitCommand{streams: s, clash: replaceChoice()}
	cmd := &cobra.Command{
		Use:   "split FILE… --part-size SIZE [OPTION…]",
		Short: "Cut files into parts",
		Long: `split cuts any file into numbered parts, or rewrites a ZIP archive as a split
one, without unpacking it. A list of SHA-256 sums is written beside the parts of
each: of each part, and for numbered parts also of the whole. Numbered parts are
plain pieces: any tool can put them together.`,
		Example: `  widecrate parts split bundles/osk-bay.zip --part-size 100k --into cut
  widecrate parts split readings/osk-bay-2026-05-01.zip --part-size 4k --into x`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("The parts", func() {
		c.cutOptions.addTo(set)
		set.Text(&c.into, "into")
		set.Value(&c.clash, "clash")
	})
	set.Group("How it runs", func() {
		c.nameOptions.addTo(set)
		c.manyOptions.addTo(set)
	})
	set.Group("Where they go, at an address", func() { c.remoteOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *splitCommand) check(cmd *cobra.Command, args []string) error {
	if c.partSize == 0 {
		return usage(cmd, lacking{errors.New("--part-size is missing: how large each part is to be")})
	}
	if err := c.remoteOptions.check(cmd); err != nil {
		return err
	}
	return c.nameOptions.check(cmd, args)
}

func (c *splitCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	c.connect(cmd, c.streams)
	names, err := c.files(cmd, args)
	if err != nil {
		return err
	}
	var read, all atomic.Int64
	for _, name := range names {
		all.Add(source.Source{Path: name}.Size())
	}
	s := cut.Splitting{Files: names, Into: c.into, How: cut.Options{PartSize: int64(c.partSize), Style: c.style.Value(), Replace: c.clash.Value(), Sites: c.guarded(cmd, named(names))}, Run: c.manyOptions.run(&read)}
	shown := show.Pieces{Output: &c.Output, Started: time.Now(), DryRun: c.dryRun, Single: len(names) == 1}
	stop := c.startBytes(c.streams, c.quiet, &read, &all)
	err = s.Start(cmd.Context(), shown.Event)
	stop()
	if err != nil {
		return err
	}
	shown.Finish()
	return shownError(&shown.Failures)
}
