package cli

import (
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/revise"
)

type editCommand struct {
	*streams
	outputOptions
	progressOption
	passwordOptions
	givenOptions
	add, remove, moves []string
	under              string
	top                choice[bool]
	level              level
	method             string
	encrypt            bool
	workers            int
}

func newEdit(s *streams) *cobra.Command {
	c := &editCommand{streams: s, top: topChoice()}
	cmd := &cobra.Command{
		Use:   "edit ARCHIVE [OPTION…]",
		Short: "Add, replace, remove or rename entries",
		Long: `edit changes a ZIP or a tar, compressed or not. What stays is copied as it is
packed, with all that its records say; a compressed tar is rewritten in one
pass. An entry that is added under a path that is taken replaces what is there.
The new archive takes the place of the old one when it is complete.`,
		Example: `  widecrate edit bundles/osk-bay.zip --text "may/notes.txt=All gauges report."
  widecrate edit bundles/osk-bay.zip --remove "*-01.zip" --move may=2026/may
  widecrate edit bundles/gull-ness.zip --put tidewatch.txt=about.txt
  widecrate edit instruments/suite-docs.tar --add corrections --top drop`,
		Args: cobra.ExactArgs(1),
		RunE: c.run,
	}
	f := cmd.Flags()
	group(cmd, "What changes", func() {
		f.StringArrayVar(&c.add, "add", nil, "pack this `SOURCE`, a file or a folder, too (repeatable)")
		c.givenOptions.addTo(cmd)
		f.StringArrayVar(&c.remove, "remove", nil, "remove entries that match this `PATTERN` (repeatable)")
		f.StringArrayVar(&c.moves, "move", nil, "give an entry, or a folder with all below it, another path: `OLD=NEW` (repeatable)")
	})
	group(cmd, "What is added", func() {
		c.top.addTo(cmd, "top", "whether the paths start with the name of an added folder")
		f.StringVar(&c.under, "under", "", "a `FOLDER` in front of the paths of what --add adds")
		f.StringVar(&c.method, "method", "", "how new entries of a ZIP are compressed, a `NAME` (left out: deflate)")
		f.Var(&c.level, "level", "how hard that tries: 0 to 9, or fast, normal, best")
		f.BoolVar(&c.encrypt, "encrypt", false, "lock what is added with AES-256 (ZIP only), with a password from one of the options below; what openers built into desktop systems often cannot read")
		c.passwordOptions.addTo(cmd)
		f.IntVar(&c.workers, "workers", runtime.NumCPU(), "how many work at once, a `NUMBER`")
	})
	group(cmd, "What is printed", func() {
		c.outputOptions.addTo(cmd, "what standard output holds: text for people, a line of JSON, or the archive's path", "text")
		c.progressOption.addTo(cmd)
	})
	return cmd
}

func (c *editCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	e := revise.Edit{Archive: args[0], Remove: c.remove}
	for _, text := range c.moves {
		from, to, found := strings.Cut(text, "=")
		if !found {
			return usage(cmd, fmt.Errorf("--move %q is not OLD=NEW", text))
		}
		e.Moves = append(e.Moves, revise.Move{Old: from, New: to})
	}
	all, err := choose.New(choose.Rules{})
	if err != nil {
		return err
	}
	var read atomic.Int64
	e.Add = create.Options{Sources: c.add, DropTop: c.top.Value(), Under: c.under, Selection: all, Workers: c.workers, Read: &read}
	e.Add.Writing.Method, e.Add.Writing.Encode = c.method, c.level.options
	if err := c.give(cmd, &e.Add); err != nil {
		return err
	}
	if e.Add.Writing.Password, err = c.newPassword(cmd, c.streams, c.encrypt); err != nil {
		return err
	}
	stop := c.startBytes(c.streams, c.quiet, &read, 0)
	r, err := e.Run(cmd.Context())
	stop()
	if err != nil {
		return err
	}
	switch c.as.Value() {
	case asJSON:
		c.json(r)
	case asNames:
		c.name(c.out, absolutePath(r.Path))
	}
	if c.quiet {
		return nil
	}
	s := c.summary(c.streams)
	s.Printf("%s: %s added, %s replaced, %s removed, %s moved, %s as before; %s → %s; %s\n", s.Strong(s.Name(r.Path)), show.Number(r.Added),
		show.Number(r.Replaced), show.Number(r.Removed), show.Number(r.Moved), show.Number(r.Stay), show.Size(r.Before), show.Size(r.After), show.Took(r.Took))
	if r.Locked > 0 && !c.encrypt && r.Added+r.Replaced > 0 {
		s.Printf("%s in it locked; what was added is not (--encrypt locks it).\n", show.Count(r.Locked, "entry"))
	}
	return nil
}
