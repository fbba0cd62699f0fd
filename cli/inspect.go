package cli

import (
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/inspect"
)

type inspectCommand struct {
	*streams
	archiveOptions
	outputOptions
	sort    option.Choice[show.Order]
	totals  bool
	workers int

	readings bool // of names in all encodings
}

func newInspect(s *streams) *cobra.Command {
	c := &inspectCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "inspect SOURCE… [OPTION…]",
		Short: "Look inside many archives without unpacking",
		Long: `inspect lists what archives hold. A source is an archive, a folder (the archives
in it), an http or https address, or - for standard input. Of a ZIP only the
directory is read, however large the archive is. A compressed tar has no
directory: it is decompressed.`,
		Example: `  widecrate inspect readings/gull-ness-2026-05-01.zip
  widecrate inspect readings --ext csv --as names
  widecrate inspect bundles --nested --as tree
  widecrate inspect readings --totals --min-size 1k
  widecrate inspect corrections --as csv --sort size
  widecrate inspect readings --pick "charts/*05-1*"
  widecrate inspect old/gauges-1994.zip --name-encoding all
  widecrate inspect http://gauges.example/bundles/osk-bay.zip`,
		PreRunE: func(cmd *cobra.Command, args []string) error { return c.archiveOptions.check(cmd, args, false) },
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.encodings = &c.readings
	c.archiveOptions.addTo(set, true, false)
	set.Group("How it runs", func() { set.Number(&c.workers, "workers", 1) })
	set.Group("What is printed", func() {
		c.sort = option.Either([]string{"archive", "path", "size", "packed", "saved", "modified"}, nil, show.ByPath, show.BySize, show.ByPacked, show.BySaved, show.ByModified)
		set.Value(&c.sort, "sort")
		set.Switch(&c.totals, "totals")
		c.outputOptions.addTo(set, "tree", "csv", "archives")
	})
	return cmd
}

func (c *inspectCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err != nil {
		return err
	}
	r.Workers = c.workers
	list := show.Listing{Output: &c.Output, Totals: c.totals, Sort: c.sort.Value(), Started: time.Now(), Selected: !r.Selection.All(), Nested: c.nested, Readings: c.readings, Many: len(r.Sources) > 1 || c.nested}
	list.Begin()
	release, _ := c.confine(cmd, r.Sources)
	defer release()
	if err := inspect.Run(cmd.Context(), inspect.Options{Request: r, Links: list.Links()}, list.Archive); err != nil {
		return err
	}
	if len(r.Sources) == 0 && !c.quiet {
		c.nothing(cmd, c.Summary())
	}
	list.Finish()
	return c.ending(cmd, &list.Failures, r.Selection, list.All.Files, list.All.LeftOut, c.quiet)
}
