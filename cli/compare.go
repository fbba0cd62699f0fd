package cli

import (
	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/verify"
)

type compareCommand struct {
	*streams
	webOptions
	selectionOptions
	passwordOptions
	limitOptions
	outputOptions
	listOption
	verify.Comparison
	peel int
}

func newCompare(s *streams) *cobra.Command {
	c := &compareCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "compare A B [OPTION…]",
		Short: "Compare two archives or folders",
		Long: `compare shows what is only in A, only in B, or different. A and B are archives
(on disk or at addresses), folders, or receipts. Files and links are compared:
first their sizes, then their checksums; those of a directory are used before
anything is decoded. The exit code is 0 if both are the same and 1 if not.`,
		Example: `  widecrate compare corrections readings
  widecrate compare readings/osk-bay-2026-05-01.zip landing/osk-bay-2026-05-01
  widecrate compare readings bundles --as names`,
		Args: cobra.ExactArgs(2),
		PreRunE: func(cmd *cobra.Command, args []string) error {
			if err := onceInput(cmd, args); err != nil {
				return err
			}
			if err := c.webOptions.check(cmd); err != nil {
				return err
			}
			return c.passwordOptions.check(cmd)
		},
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("What is compared", func() {
		set.Number(&c.peel, "peel", 0)
		set.Number(&c.PeelA, "peel-a", 0)
		set.Number(&c.PeelB, "peel-b", 0)
		set.Switch(&c.Times, "times")
		c.listOption.addTo(set)
		c.passwordOptions.addTo(set)
		c.limitOptions.addTo(set)
	})
	set.Group("Archives at addresses", func() { c.webOptions.addTo(set) })
	set.Group("Which entries", func() { c.selectionOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
	})
	return cmd
}

func (c *compareCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	var err error
	if c.Selection, err = c.selection(cmd); err != nil {
		return err
	}
	if c.Reading.Passwords, err = c.passwords(cmd, c.streams); err != nil {
		return err
	}
	if c.Web, err = c.client(cmd, c.streams, args...); err != nil {
		return err
	}
	c.A, c.B = args[0], args[1]
	if c.Sums, err = c.lists(cmd, source.Source{Path: c.A}, source.Source{Path: c.B}); err != nil {
		return err
	}
	c.PeelA += c.peel
	c.PeelB += c.peel
	c.Input = cmd.InOrStdin()
	c.Limits, c.Reading.MaxMemory = c.limits, c.memory
	r, err := verify.Compare(cmd.Context(), c.Comparison)
	if err != nil {
		return err
	}
	c.Compared(r)
	var different report.Failures
	if len(r.Differences) > 0 {
		different.Add(fault.New(fault.Other, "they are not the same"))
	}
	return c.ending(cmd, &different, c.Selection, r.Same+len(r.Differences), r.LeftOut, c.quiet)
}
