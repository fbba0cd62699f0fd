package cli

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/create"
	"widecrate/core/report"
	"widecrate/core/source"
)

type weighCommand struct {
	*streams
	selectionOptions
	outputOptions
	tries   []string
	sample  option.Size
	chart   string
	workers int
}

func newWeigh(s *streams) *cobra.Command {
	c := &weighCommand{streams: s, workers: runtime.NumCPU(), sample: 64 << 20}
	cmd := &cobra.Command{
		Use:   "weigh SOURCE… [OPTION…]",
		Short: "Pack a sample in several ways; compare size and time",
		Long: `weigh packs files in several ways and compares sizes and times: the smallest,
the fastest, and the best trade, where half the size may take sixteen times as
long. If there is more than the sample, only pieces of it are packed, and the
last line says how far off the estimates may be. No archive is written.

A way is a format, a method of ZIP after a colon, and a level after an at sign:
zip, zip:zstd, tar.gz@best, zip:bzip2@1.`,
		Example: `  widecrate weigh readings
  widecrate weigh landing --try zip,tar.gz,tar.zst@best --chart ways.png
  widecrate weigh landing --sample 200k --as json`,
		Args: cobra.MinimumNArgs(1),
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("What is tried", func() {
		set.List(&c.tries, "try")
		set.Value(&c.sample, "sample")
		set.Text(&c.chart, "chart")
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("Which files", func() { c.selectionOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "table")
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
	sources, err := source.Expand(args)
	if err != nil {
		return err
	}
	if err := c.checkWritten(cmd, named(sources)); err != nil {
		return err
	}
	w := create.Weighing{Options: create.Options{Sources: sources, Workers: c.workers}, Sample: int64(c.sample)}
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
	r, err := w.Run(cmd.Context(), func(m *report.Way) {
		if c.err.Terminal && !c.quiet {
			c.err.Printf("\r\x1b[K%s %s", c.err.Faint("packed as"), m.Name)
			c.err.Flush()
		}
	})
	if c.err.Terminal && !c.quiet {
		c.err.Printf("\r\x1b[K")
		c.err.Flush()
	}
	if err != nil {
		return err
	}
	switch c.as.Value() {
	case asJSON:
		c.json(r)
	case asNames:
		for _, m := range bySmallest(r) {
			c.name(c.out, m.Name)
		}
	default:
		c.table(r)
	}
	c.summarize(r)
	if draw != nil {
		return draw(r, c.chart)
	}
	return nil
}

// bySmallest has the results in the order of their sizes.
func bySmallest(r *report.Weighed) []report.Way {
	return slices.SortedStableFunc(slices.Values(r.Ways), func(a, b report.Way) int { return cmp.Compare(a.Size, b.Size) })
}

// longestBar is how long a bar is where the terminal has room for it.
const longestBar = 30

func (c *weighCommand) table(r *report.Weighed) {
	if c.quiet {
		return
	}
	name, best := show.Column{Title: "way"}, show.Column{}
	var largest int64
	for _, m := range r.Ways {
		name.Width = max(name.Width, show.Width(m.Name))
		best.Width = max(best.Width, show.Width(strings.Join(m.Best, ", ")))
		largest = max(largest, m.Estimate)
	}
	size := show.Column{Title: "size", Width: 9, Right: true}
	if r.Packed < r.Size {
		size.Title = "estimate"
	}
	t := show.NewTable(c.out, name, size, show.Column{Title: "saved", Right: true}, show.Column{Title: "time", Width: 8, Right: true},
		show.Column{Title: "speed", Width: 10, Right: true}, show.Column{Width: longestBar, Short: true}, best)
	longest := t.Width(5)
	for i := range r.Ways {
		m := &r.Ways[i]
		t.Row(m.Name, show.Size(m.Estimate), show.Saved(r.Size, m.Estimate), took(m.Took.Duration), show.Size(int64(float64(r.Packed)/m.Took.Seconds()))+"/s",
			bar(m.Estimate, largest, longest), c.out.Good(strings.Join(m.Best, ", ")))
	}
}

func took(d time.Duration) string { return fmt.Sprintf("%.3f s", d.Seconds()) }

// bar is a bar of half cells.
func bar(value, largest int64, longest int) string {
	halves := int(float64(value)/float64(max(largest, 1))*float64(2*longest) + 0.5)
	return strings.Repeat("━", halves/2) + strings.Repeat("╸", halves%2)
}

func (c *weighCommand) summarize(r *report.Weighed) {
	if c.quiet {
		return
	}
	s := c.summary(c.streams)
	if r.Packed == r.Size {
		s.Printf("All of %s, %s, packed in memory; times are without the disk.\n", show.Count(r.Files, "file"), show.Size(r.Size))
		return
	}
	off := "several times too small or too large: the pieces are too different"
	if r.Off < 1 {
		off = fmt.Sprintf("%.0f %% off", 100*r.Off)
	}
	s.Printf("%s of %s from %s of %s were packed, in memory. The sizes are estimates for everything: they may be %s.\n",
		show.Size(r.Packed), show.Size(r.Size), show.Number(r.Sampled), show.Count(r.Files, "file"), off)
}

// chartOf is what draws a chart into a file of this name; nil: there is none.
func chartOf(path string) (func(*report.Weighed, string) error, error) {
	switch strings.ToLower(filepath.Ext(path)) {
	case "":
		if path == "" {
			return nil, nil
		}
	case ".png", ".svg":
		return drawChart, nil
	}
	return nil, fmt.Errorf("--chart %s: a chart is a .png or .svg", path)
}
