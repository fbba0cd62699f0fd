package cli

import (
	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/storage"
)

func newParts(s *streams) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "parts COMMAND",
		Short: "Sets in parts: find and check, put together, split",
		Long: `parts is for archives that are cut into several files: split ZIP archives (.z01,
.z02 … .zip), and plain cuts (.001 …, .aa …, part1, 1of5). To unpack a set, you
need not join it: extract, inspect and verify take any part for the whole.`,
		Example: `  widecrate parts scan survey  # exit code 4
  widecrate parts join survey/grids.tar.gz.001 --into grids.tar.gz
  widecrate parts split bundles/osk-bay.zip --part-size 100k --into cut`,
		Args: noCommand,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newPartsScan(s), newPartsJoin(s), newPartsSplit(s))
	return cmd
}

type scanCommand struct {
	*streams
	outputOptions
	listOption
	nameOptions
	recursive bool
	partsIn   []string
}

func newPartsScan(s *streams) *cobra.Command {
	c := &scanCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "scan [SOURCE…] [OPTION…]",
		Short: "Find sets, and say what is missing",
		Long: `scan finds sets in folders (default: the current one), and the sets that files
belong to. It names parts that are missing, empty, too short, or there twice.
The exit code is 4 if a set is not complete.`,
		Example: `  widecrate parts scan survey  # exit code 4
  widecrate parts scan survey/harbour.zip --as json
  widecrate parts scan survey/grids.tar.gz.001 --check-sums beside`,
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("Which sets", func() {
		c.nameOptions.addTo(set)
		set.Switch(&c.recursive, "recursive")
		set.Texts(&c.partsIn, "parts-in")
		c.listOption.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
	})
	return cmd
}

func (c *scanCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	names, err := c.files(cmd, args)
	if err != nil {
		return err
	}
	if len(args) == 0 && c.sourceList == "" {
		names = []string{"."}
	}
	found, errs := parts.Scan(storage.Sites{}, names, c.recursive, c.partsIn)
	var failures report.Failures
	sources := make([]source.Source, len(found))
	for i, set := range found {
		sources[i] = source.OfSet(set)
	}
	lists, err := c.lists(cmd, sources...)
	if err != nil {
		return err
	}
	sets := make([]*report.Set, len(found))
	for i, set := range found {
		summed, err := 0, set.Check()
		if c.checkSums != "" && err == nil {
			summed, err = lists.Check(cmd.Context(), set)
		}
		if cmd.Context().Err() != nil {
			return cmd.Context().Err()
		}
		if sets[i] = report.SetOf(set, summed, fault.At(set.Path(), err)); err != nil {
			failures.Add(sets[i].Err)
		}
	}
	c.Sets(sets, c.checkSums != "")
	for _, err := range errs {
		failures.Add(err)
		c.Failed(err)
	}
	return shownError(&failures)
}

// cutOptions say how a set is made.
type cutOptions struct {
	partSize option.Size
	style    option.Choice[cut.Style]
}

func (o *cutOptions) addTo(set *option.Set) {
	o.style = option.Either([]string{"numbered", "zip"}, cut.Numbered, cut.ZIP)
	set.Value(&o.partSize, "part-size")
	set.Value(&o.style, "part-style")
}

// cut is how an archive is to be cut; nil: not at all.
func (o *cutOptions) cut(cmd *cobra.Command) (*cut.Options, error) {
	if o.partSize == 0 {
		return nil, nil
	}
	return &cut.Options{PartSize: int64(o.partSize), Style: o.style.Value()}, nil
}

// replaceChoice is whether what is written may replace what is there.
func replaceChoice() option.Choice[bool] {
	return option.Either([]string{"refuse", "replace"}, false, true)
}
