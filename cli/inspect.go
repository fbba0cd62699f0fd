package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/inspect"
	"widecrate/core/report"
	"widecrate/core/source"
)

type inspectCommand struct {
	*streams
	archiveOptions
	outputOptions
	sort   option.Choice[order]
	totals bool
	listed int // archives, in forms for people
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
  widecrate inspect http://gauges.example/bundles/osk-bay.zip`,
		PreRunE: func(cmd *cobra.Command, args []string) error { return c.archiveOptions.check(cmd, args, false) },
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.archiveOptions.addTo(set, true)
	set.Group("What is printed", func() {
		c.sort = option.Either[order]([]string{"archive", "path", "size", "packed", "saved", "modified"}, nil, byPath, bySize, byPacked, bySaved, byModified)
		set.Value(&c.sort, "sort")
		set.Switch(&c.totals, "totals")
		c.outputOptions.addTo(set, "table", "tree", "csv")
	})
	return cmd
}

// counts are the totals of a listing.
type counts struct{ report.Listed }

func (n counts) String() string {
	text := fmt.Sprintf("%s, %s", show.Count(n.Files, "file"), show.Size(n.Size))
	if n.Together {
		return text + ", compressed together; " + n.LeftOut.String()
	}
	text += ", packed " + show.Size(n.Packed)
	if saved := show.Saved(n.Size, n.Packed); saved != "" {
		text += ", saved " + saved
	}
	return text + "; " + n.LeftOut.String()
}

func (c *inspectCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err != nil {
		return err
	}
	list := map[form]func(*inspect.Archive, *counts) error{
		asText: c.table, asTree: c.tree, asJSON: c.lines, asNames: c.names, asCSV: c.csv}[c.as.Value()]
	var sum counts
	var failures report.Failures
	good := 0
	o := inspect.Options{Request: r, Links: !c.totals && (c.as.Value() == asJSON || c.as.Value() == asCSV)}
	if c.as.Value() == asCSV {
		c.csvTitles()
	}
	err = inspect.Run(cmd.Context(), o, func(a *inspect.Archive, err error) error {
		n := counts{report.Listed{Archive: a.Path, Bytes: a.Size}}
		if err == nil {
			err = list(a, &n)
		}
		if err != nil {
			failures.Add(err)
			c.problem(err)
			if c.as.Value() == asJSON {
				c.streams.json(&report.Listed{Archive: a.Path, Bytes: a.Size, Err: err})
			}
			return nil
		}
		good++
		sum.Add(&n.Listed)
		return nil
	})
	if err != nil {
		return err
	}
	c.summarize(cmd, r.Sources, good, sum)
	return c.ending(cmd, &failures, r.Selection, sum.Files, sum.LeftOut, c.quiet)
}

func (c *inspectCommand) summarize(cmd *cobra.Command, sources []source.Source, good int, sum counts) {
	people := c.as.Value() == asText || c.as.Value() == asTree
	switch {
	case c.quiet:
	case len(sources) == 0:
		c.nothing(cmd, c.summary(c.streams))
	case people && (good > 1 || good == 1 && c.as.Value() == asTree && !c.totals):
		c.out.Printf("\n%s: %s\n", c.out.Strong(show.Count(good, "archive")), sum)
	}
}

// item is an entry of a listing.
type item struct {
	index int // in the archive
	*archive.Entry
}

// entries goes through what the selection keeps, in the order asked for.
func (c *inspectCommand) entries(a *inspect.Archive, leftOut *choose.Tally) func(yield func(int, *archive.Entry) bool) {
	less := c.sort.Value()
	if less == nil {
		return a.Entries(leftOut)
	}
	return func(yield func(int, *archive.Entry) bool) {
		var items []item
		for i, e := range a.Entries(leftOut) {
			items = append(items, item{i, e})
		}
		slices.SortStableFunc(items, func(x, y item) int { return less(x.Entry, y.Entry) })
		for _, it := range items {
			if !yield(it.index, it.Entry) {
				return
			}
		}
	}
}
