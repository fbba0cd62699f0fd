package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/create"
	"widecrate/core/report"
)

type weighCommand struct {
	*streams
	selectionOptions
	nameOptions
	outputOptions
	tries   []string
	sample  option.Size
	chart   string
	workers int
	asFiles bool
}

func newWeigh(s *streams) *cobra.Command {
	c := &weighCommand{streams: s, workers: runtime.NumCPU(), sample: 64 << 20}
	cmd := &cobra.Command{
		Use:   "weigh SOURCE… [OPTION…]",
		Short: "Pack a sample in several ways; compare size and time",
		Long: `weigh packs files in several ways and compares sizes and times: the smallest,
the fastest, and the best trade, where half the size may take sixteen times as
long. Of archives, what is in them is weighed. If there is more than the sample,
only pieces from all over are packed, and the last line says how far off the
estimates may be. Times are those of the processors. No archive is written.

A way is a format, a method of ZIP after a colon, and a level after an at sign:
zip, zip:zstd, tar.gz@best, zip:bzip2@1.`,
		Example: `  widecrate weigh readings
  widecrate weigh landing --try zip,tar.gz,tar.zst@best --chart ways.png
  widecrate weigh landing --sample 200k --as json`,
		PreRunE: c.nameOptions.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("What is tried", func() {
		set.List(&c.tries, "try")
		set.Value(&c.sample, "sample")
		set.Text(&c.chart, "chart")
		set.Switch(&c.asFiles, "as-files")
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("Which files", func() {
		c.nameOptions.addTo(set)
		c.selectionOptions.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
	})
	return cmd
}

func (c *weighCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	if c.sample < 1 {
		return usage(cmd, errors.New("--sample must be at least one byte"))
	}
	draw, err := chartOf(c.chart)
	if err != nil {
		return usage(cmd, err)
	}
	sources, err := c.files(cmd, args)
	if err != nil {
		return err
	}
	if err := c.checkWritten(cmd, named(sources)); err != nil {
		return err
	}
	w := create.Weighing{Options: create.Options{Sources: sources, Workers: c.workers}, Sample: int64(c.sample), AsFiles: c.asFiles}
	if w.Selection, err = c.selection(cmd); err != nil {
		return err
	}
	tries := c.tries
	if tries == nil {
		tries = create.Ways
	}
	for _, text := range tries {
		way, err := create.ParseWay(text)
		if err != nil {
			return err
		}
		w.Ways = append(w.Ways, way)
	}
	release, _ := c.confine(cmd, named(sources))
	defer release()
	r, err := w.Run(cmd.Context(), func(m *report.Way) {
		if c.Err.Terminal && !c.quiet {
			c.Err.Printf("\r\x1b[K%s %s", c.Err.Faint("packed as"), m.Name)
			c.Err.Flush()
		}
	})
	if c.Err.Terminal && !c.quiet {
		c.Err.Printf("\r\x1b[K")
		c.Err.Flush()
	}
	if err != nil {
		return err
	}
	c.Weighed(r)
	if draw != nil {
		return draw(r, c.chart)
	}
	return nil
}

// chartOf is what draws a chart into a file of this name; nil: there is none.
func chartOf(path string) (func(*report.Weighed, string) error, error) {
	switch strings.ToLower(filepath.Ext(path)) {
	case "":
		if path == "" {
			return nil, nil
		}
	case ".png", ".svg":
		return show.Chart, nil
	}
	return nil, fmt.Errorf("--chart %s: a chart is a .png or .svg", path)
}
