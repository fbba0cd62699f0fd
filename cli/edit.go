package cli

import (
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/revise"
	"widecrate/core/source"
)

type editCommand struct {
	*streams
	outputOptions
	progressOption
	passwordOptions
	limitOptions
	givenOptions
	add, remove, moves []string
	under              string
	top                option.Choice[bool]
	level              option.Level
	method             string
	encrypt            bool
	workers            int
}

func newEdit(s *streams) *cobra.Command {
	c := &editCommand{streams: s, workers: runtime.NumCPU(), top: topChoice()}
	cmd := &cobra.Command{
		Use:   "edit ARCHIVE [OPTION…]",
		Short: "Add, replace, remove or rename entries",
		Long: `edit changes a ZIP or a tar, compressed or not. Entries that stay are copied as
they are packed, with all that is recorded of them; a compressed tar is packed
again in one pass. An added entry replaces one with the same path. The new
archive replaces the old one when it is complete.`,
		Example: `  widecrate edit bundles/osk-bay.zip --text "may/notes.txt=All gauges report."
  widecrate edit bundles/osk-bay.zip --remove "*-01.zip" --move may=2026/may
  widecrate edit bundles/gull-ness.zip --put tidewatch.txt=about.txt
  widecrate edit instruments/suite-docs.tar --add corrections --top drop`,
		Args: cobra.ExactArgs(1),
		PreRunE: func(cmd *cobra.Command, _ []string) error {
			if _, err := c.edit(cmd, ""); err != nil {
				return err
			}
			return c.checkNew(cmd, c.encrypt)
		},
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("What changes", func() {
		set.Texts(&c.add, "add")
		c.givenOptions.addTo(set)
		set.Texts(&c.remove, "remove")
		set.Texts(&c.moves, "move")
	})
	set.Group("What is added", func() {
		set.Value(&c.top, "top")
		set.Text(&c.under, "under")
		set.Text(&c.method, "method")
		set.Value(&c.level, "level")
		set.Switch(&c.encrypt, "encrypt")
		c.passwordOptions.addTo(set)
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("What is allowed of the archive", func() { c.limitOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "text")
		c.progressOption.addTo(set)
	})
	return cmd
}

// edit is what the core is asked for.
func (c *editCommand) edit(cmd *cobra.Command, archive string) (e revise.Edit, err error) {
	if err := onDisk(cmd, archive); err != nil {
		return e, err
	}
	e = revise.Edit{Archive: archive, Remove: c.remove, Limits: c.limits}
	e.Reading.MaxMemory = c.memory
	for _, text := range c.moves {
		from, to, found := strings.Cut(text, "=")
		if !found {
			return e, usage(cmd, fmt.Errorf("--move %q is not OLD=NEW", text))
		}
		e.Moves = append(e.Moves, revise.Move{Old: inside(from), New: inside(to)})
	}
	all, err := choose.New(choose.Rules{})
	if err != nil {
		return e, err
	}
	if len(c.add)+c.count()+len(c.remove)+len(c.moves) == 0 {
		return e, usage(cmd, fmt.Errorf("there is nothing to change: name what to add, remove or move"))
	}
	add, err := source.Expand(c.add)
	if err != nil {
		return e, err
	}
	e.Add = create.Options{Sources: add, DropTop: c.top.Value(), Under: inside(c.under), Selection: all, Workers: c.workers}
	e.Add.Writing.Method, e.Add.Writing.Encode = c.method, c.level.Options
	return e, c.give(cmd, &e.Add)
}

func (c *editCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	e, err := c.edit(cmd, args[0])
	if err != nil {
		return err
	}
	var read, found atomic.Int64
	e.Add.Read, e.Add.Found = &read, &found
	if e.Add.Writing.Password, err = c.newPassword(cmd, c.streams, c.encrypt); err != nil {
		return err
	}
	stop := c.startBytes(c.streams, c.quiet, &read, &found)
	r, err := e.Run(cmd.Context())
	stop()
	if err != nil {
		return err
	}
	c.Edited(args[0], r, c.encrypt)
	return nil
}
