package cli

import (
	"errors"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/report"
	"widecrate/core/source"
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
	if len(args) == 0 {
		args = []string{"."}
	}
	found, errs := parts.Scan(args, c.recursive, c.partsIn)
	var failures report.Failures
	sources := make([]source.Source, len(found))
	for i, set := range found {
		sources[i] = source.Source{Path: set.Path(), Set: set}
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

type joinCommand struct {
	*streams
	listOption
	webOptions
	outputOptions
	progressOption
	into    string
	clash   option.Choice[bool]
	partsIn []string
}

func newPartsJoin(s *streams) *cobra.Command {
	c := &joinCommand{streams: s, clash: replaceChoice()}
	cmd := &cobra.Command{
		Use:   "join PART [OPTION…]",
		Short: "Put a set together into one file",
		Long: `join puts a set together; name any part of it. Plain cuts are joined byte for
byte. A split ZIP archive becomes an ordinary one, without unpacking. If a list
of SHA-256 sums is beside the parts, or --check-sums names one, the parts and
the whole are checked. The file appears when it is complete and right.`,
		Example: `  widecrate parts join survey/grids.tar.gz.001 --into grids.tar.gz
  widecrate parts join survey/harbour.z01 --into harbour.zip`,
		Args:    cobra.ExactArgs(1),
		PreRunE: func(cmd *cobra.Command, _ []string) error { return c.webOptions.check(cmd) },
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("The file", func() {
		set.Text(&c.into, "into")
		set.Value(&c.clash, "clash")
		set.Texts(&c.partsIn, "parts-in")
		c.listOption.addTo(set)
	})
	set.Group("Parts at addresses", func() { c.webOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

// set is that of a part on disk, or at an address.
func (c *joinCommand) set(cmd *cobra.Command, part string) (*parts.Set, error) {
	client, err := c.client(cmd, c.streams, part)
	switch {
	case err != nil:
		return nil, err
	case client == nil:
		return parts.Around(part, c.partsIn)
	case c.into == "":
		return nil, usage(cmd, errors.New("the parts lie at an address: --into names the file to make"))
	}
	return source.SetAt(cmd.Context(), client, part)
}

func (c *joinCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	started := time.Now()
	set, err := c.set(cmd, args[0])
	if err != nil {
		return err
	}
	lists, err := c.listOption.lists(cmd, source.Source{Path: set.Path(), Set: set})
	if err != nil {
		return err
	}
	var read, all atomic.Int64
	all.Store(set.Size())
	stop := c.startBytes(c.streams, c.quiet, &read, &all)
	j, err := cut.Join(cmd.Context(), set, c.into, c.clash.Value(), lists, &read)
	stop()
	if err != nil {
		return err
	}
	c.Joined(&report.Joined{Path: absolutePath(j.Path), Parts: len(set.Parts), Size: j.Size, Summed: j.Summed, Took: report.Since(started)}, j, set)
	return nil
}

// absolutePath is a path that does not depend on where the command ran.
func absolutePath(path string) string {
	if full, err := filepath.Abs(path); err == nil {
		return full
	}
	return path
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

type splitCommand struct {
	*streams
	outputOptions
	progressOption
	cutOptions
	into  string
	clash option.Choice[bool]
}

func newPartsSplit(s *streams) *cobra.Command {
	c := &splitCommand{streams: s, clash: replaceChoice()}
	cmd := &cobra.Command{
		Use:   "split FILE --part-size SIZE [OPTION…]",
		Short: "Cut a file into parts",
		Long: `split cuts any file into numbered parts, or rewrites a ZIP archive as a split
one, without unpacking it. A list of SHA-256 sums is written beside the parts:
of each part, and for numbered parts also of the whole. Numbered parts are plain
pieces: any tool can put them together.`,
		Example: `  widecrate parts split bundles/osk-bay.zip --part-size 100k --into cut
  widecrate parts split readings/osk-bay-2026-05-01.zip --part-size 4k --into x`,
		Args: cobra.ExactArgs(1),
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("The parts", func() {
		c.cutOptions.addTo(set)
		set.Text(&c.into, "into")
		set.Value(&c.clash, "clash")
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *splitCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	started := time.Now()
	how, err := c.cut(cmd)
	if err != nil {
		return err
	}
	if how == nil {
		return usage(cmd, errors.New("--part-size says how large the parts are"))
	}
	how.Replace = c.clash.Value()
	var read, all atomic.Int64
	all.Store(source.Source{Path: args[0]}.Size())
	stop := c.startBytes(c.streams, c.quiet, &read, &all)
	w, err := cut.Split(cmd.Context(), args[0], c.into, *how, &read)
	stop()
	if err != nil {
		return err
	}
	c.Split(&report.Split{Parts: w.Parts, Sums: w.List, Size: w.Size, Took: report.Since(started)})
	return nil
}

// replaceChoice is whether what is written may replace what is there.
func replaceChoice() option.Choice[bool] {
	return option.Either([]string{"refuse", "replace"}, false, true)
}
