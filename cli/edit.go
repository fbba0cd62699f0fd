package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/create"
	"widecrate/core/format/zip"
	"widecrate/core/report"
	"widecrate/core/revise"
	"widecrate/core/source"
)

type editCommand struct {
	*streams
	sourceOptions
	decodeOptions
	passwordOptions
	outputOptions
	progressOption
	pageOption
	recordOptions
	replacedOption
	givenOptions
	add, remove, moves []string
	under              string
	top                option.Choice[bool]
	level              option.Level
	method             string
	encrypt            bool
	workers            int
	halt, dryRun       bool
	readBack           bool
}

func newEdit(s *streams) *cobra.Command {
	c := &editCommand{streams: s, top: topChoice()}
	cmd := &cobra.Command{
		Use:   "edit SOURCE… [OPTION…]",
		Short: "Add, replace, remove or rename entries",
		Long: `edit changes ZIPs and tars, compressed or not; a folder stands for the archives
in it. Entries that stay are copied as they are packed, with all that is
recorded of them; a compressed tar is packed again in one pass. An added entry
replaces one with the same path. A new archive replaces the old one when it is
complete; one in which nothing changes stays as it is.`,
		Example: `  widecrate edit bundles/osk-bay.zip --text "may/notes.txt=All gauges report."
  widecrate edit bundles/osk-bay.zip --remove "*-01.zip" --move may=2026/may
  widecrate edit bundles/gull-ness.zip --put tidewatch.txt=about.txt
  widecrate edit bundles --put tidewatch.txt=about.txt --dry-run
  widecrate edit bundles/osk-bay.zip --nested --remove gauge.log
  widecrate edit instruments/suite-docs.tar --add corrections --top drop`,
		PreRunE: c.check,
		RunE:    c.run,
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
		set.Offered(&c.method, "method", zip.Format.Methods...)
		set.Value(&c.level, "level")
		set.Switch(&c.encrypt, "encrypt")
		c.passwordOptions.addTo(set)
	})
	set.Group("Which archives", func() {
		c.sourceOptions.addFiles(set)
		c.addNested(set)
		c.decodeOptions.addTo(set)
	})
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Switch(&c.readBack, "read-back")
		set.Switch(&c.halt, "halt")
		set.Number(&c.workers, "workers", 1)
		c.replacedOption.addTo(set)
	})
	set.Group("What was done", func() {
		set.Text(&c.receipt, "receipt")
		c.pageOption.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "csv")
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *editCommand) check(cmd *cobra.Command, args []string) error {
	if _, err := c.edit(cmd); err != nil {
		return err
	}
	if err := c.sourceOptions.check(cmd, args, false); err != nil {
		return err
	}
	return c.checkNew(cmd, c.encrypt)
}

// edit is what the core is asked for, but for the archives.
func (c *editCommand) edit(cmd *cobra.Command) (e revise.Edit, err error) {
	e = revise.Edit{Remove: c.remove, Workers: c.workers, ReadBack: c.readBack, Keep: c.keepIn(), Nested: c.nestedDepth(), Archives: c.request.Archives, Halt: c.halt, DryRun: c.dryRun}
	for _, text := range c.moves {
		from, to, found := strings.Cut(text, "=")
		if !found {
			return e, usage(cmd, fmt.Errorf("--move %q is not OLD=NEW", text))
		}
		e.Moves = append(e.Moves, revise.Move{Old: inside(from), New: inside(to)})
	}
	if len(c.add)+c.count()+len(c.remove)+len(c.moves) == 0 {
		return e, usage(cmd, lacking{errors.New("there is nothing to change: no option says what to add, remove or move")})
	}
	add, err := source.Expand(c.add)
	if err != nil {
		return e, err
	}
	e.Add = create.Options{Sources: add, DropTop: c.top.Value(), Under: inside(c.under)}
	e.Add.Writing.Method, e.Add.Writing.Encode = c.method, c.level.Options
	return e, c.give(cmd, &e.Add)
}

func (c *editCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.Deeds()
	if !c.dryRun {
		c.pageOption.begin(cmd, c.streams)
		defer c.pageOption.finish(&err)
	}
	e, err := c.edit(cmd)
	if err != nil {
		return err
	}
	e.Sources, err = c.find(cmd, args, c.streams, c.quiet, nil)
	if err == nil {
		err = c.checkWritten(cmd, e.Sources)
	}
	if err == nil {
		e.Add.Writing.Password, err = c.newPassword(cmd, c.streams, c.encrypt)
	}
	if err != nil {
		return err
	}
	if len(e.Sources) == 0 {
		if !c.quiet {
			c.nothing(cmd, c.Summary())
		}
		return nil
	}
	e.Reading, e.Limits = c.reading, c.limits
	if err := c.decoding(cmd, &e.Reading); err != nil {
		return err
	}
	var read, found, done atomic.Int64
	e.Add.Read, e.Add.Found = &read, &found
	added := slices.Clone(e.Add.Sources)
	for _, put := range e.Add.Puts {
		added = append(added, put.File)
	}
	release, roots := c.confine(cmd, e.Sources, added...)
	defer release()
	if err := c.recordOptions.begin(cmd, c.streams, roots, c.dryRun); err != nil {
		return err
	}
	shown := show.Edits{Output: &c.Output, DryRun: c.dryRun, Locked: c.encrypt, Single: len(e.Sources) == 1, Started: time.Now()}
	stop := c.startArchives(c.streams, c.quiet, &read, &done, len(e.Sources))
	err = e.Run(cmd.Context(), func(event report.Event) {
		done.Add(1)
		c.recordOptions.event(event, "")
		c.pageOption.event(event)
		shown.Event(event)
	})
	stop()
	recorded := c.recordOptions.finish(c.dryRun, err)
	if err != nil {
		return err
	}
	shown.Finish()
	return c.both(shownError(&shown.Failures), recorded)
}
