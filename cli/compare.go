package cli

import (
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/verify"
)

type compareCommand struct {
	*streams
	remoteOptions
	selectionOptions
	passwordOptions
	decodeOptions
	outputOptions
	listOption
	progressOption
	verify.Comparison
	peel    int
	pairs   string
	by      option.Choice[func(source.Source) string]
	many    source.Request // how archives in folders are found
	workers int
	halt    bool
}

func newCompare(s *streams) *cobra.Command {
	c := &compareCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "compare A B [OPTION…]",
		Short: "Compare two archives or folders, or many",
		Long: `compare shows what is only in A, only in B, or different. A and B are archives
(on disk or at addresses), folders, or receipts. Files and links are compared:
first their sizes, then their checksums; those of a directory are used before
anything is decoded. The exit code is 0 if both are the same and 1 if not. With
--archives-by the archives in two folders are compared one by one, and with
--pairs those in a list.`,
		Example: `  widecrate compare corrections readings
  widecrate compare bundles bundles --archives-by stem
  widecrate compare readings/osk-bay-2026-05-01.zip landing/osk-bay-2026-05-01
  widecrate compare readings bundles --as names`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("What is compared", func() {
		set.Number(&c.peel, "peel", 0)
		set.Number(&c.PeelA, "peel-a", 0)
		set.Number(&c.PeelB, "peel-b", 0)
		set.Switch(&c.Times, "times")
		set.Text(&c.pairs, "pairs")
		c.by = option.EitherOrNone([]string{"stem", "name"}, verify.ByStem, verify.ByName)
		set.Value(&c.by, "archives-by")
		set.Switch(&c.many.Recursive, "recursive")
		set.Texts(&c.many.Archives, "archives")
		set.Texts(&c.Finding.PartsIn, "parts-in")
		set.Value(&option.Wait{To: &c.Finding.Wait}, "wait")
		set.Value(&option.Encoding{To: &c.Reading.Encoding}, "name-encoding")
		set.Value(&option.Zone{To: &c.Reading.Zone}, "zone")
		c.listOption.addTo(set)
		c.passwordOptions.addTo(set)
		c.decodeOptions.addTo(set)
	})
	set.Group("How it runs", func() {
		set.Switch(&c.halt, "halt")
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("Archives at addresses", func() { c.remoteOptions.addTo(set) })
	set.Group("Which entries", func() { c.selectionOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *compareCommand) check(cmd *cobra.Command, args []string) error {
	by := c.by.String() != ""
	switch {
	case c.pairs != "" && (len(args) > 0 || by):
		return usage(cmd, errors.New("--pairs takes the place of A and B"))
	case c.pairs == "" && len(args) != 2:
		return usage(cmd, lacking{fmt.Errorf("%s named, and two are compared: A and B, or a list of them with --pairs", show.Count(len(args), "thing"))})
	case !by && (c.many.Recursive || c.many.Archives != nil):
		return usage(cmd, errors.New("--recursive and --archives are for --archives-by, which compares the archives in two folders"))
	}
	if err := c.many.Check(); err != nil {
		return err
	}
	if err := onceInput(cmd, args); err != nil {
		return err
	}
	if err := c.remoteOptions.check(cmd); err != nil {
		return err
	}
	return c.passwordOptions.check(cmd)
}

func (c *compareCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	if c.Selection, err = c.selection(cmd); err != nil {
		return err
	}
	if c.Reading.Passwords, err = c.passwords(cmd, c.streams); err != nil {
		return err
	}
	pairs, err := c.pairsOf(cmd, args)
	if err != nil {
		return err
	}
	var sources []source.Source
	for _, p := range pairs {
		sources = append(sources, source.Source{Path: p.A}, source.Source{Path: p.B})
	}
	c.Finding.Remote = c.connect(cmd, c.streams)
	if c.Sums, err = c.lists(cmd, sources...); err != nil {
		return err
	}
	c.PeelA += c.peel
	c.PeelB += c.peel
	c.Finding.Input = cmd.InOrStdin()
	c.Limits = c.limits
	if err := c.decoding(cmd, &c.Reading); err != nil {
		return err
	}
	release, _ := c.confine(cmd, sources)
	defer release()
	if c.pairs != "" || c.by.String() != "" {
		return c.compareMany(cmd, pairs)
	}
	c.A, c.B = args[0], args[1]
	r, err := verify.Compare(cmd.Context(), c.Comparison)
	if err != nil {
		return err
	}
	c.Compared(r)
	var different report.Failures
	if r.Differ() {
		different.Add(fault.New(fault.Other, "they are not the same"))
	}
	return c.ending(cmd, &different, c.Selection, r.Same+len(r.Differences), r.LeftOut, c.quiet)
}

// pairsOf are the things to compare.
func (c *compareCommand) pairsOf(cmd *cobra.Command, args []string) (pairs []verify.Pair, err error) {
	if by := c.by.Value(); by != nil {
		a, b := c.many, c.many
		a.PartsIn, b.PartsIn, a.Wait, b.Wait = c.Finding.PartsIn, c.Finding.PartsIn, c.Finding.Wait, c.Finding.Wait
		a.Names, b.Names = args[:1], args[1:]
		return verify.Match(cmd.Context(), a, b, by)
	}
	if c.pairs == "" {
		return []verify.Pair{{A: args[0], B: args[1]}}, nil
	}
	err = readFile(cmd, c.pairs, func(r io.Reader) error {
		rows, err := source.ReadPairs(r, "a", "b")
		for _, row := range rows {
			pairs = append(pairs, verify.Pair{A: row[0], B: row[1]})
		}
		return err
	})
	return pairs, err
}

func (c *compareCommand) compareMany(cmd *cobra.Command, pairs []verify.Pair) error {
	shown := show.Comparisons{Output: &c.Output}
	var read, done atomic.Int64
	c.Read = &read
	stop := c.startArchives(c.streams, c.quiet, &read, &done, len(pairs))
	err := verify.CompareEach(cmd.Context(), c.Comparison, pairs, schedule.Options{Workers: c.workers, Halt: c.halt}, func(e report.Event) {
		done.Add(1)
		shown.Event(e)
	})
	stop()
	if err != nil {
		return err
	}
	shown.Finish()
	return c.ending(cmd, &shown.Failures, c.Selection, shown.Kept, shown.LeftOut, c.quiet)
}
