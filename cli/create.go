package cli

import (
	"sync/atomic"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/create"
)

type createCommand struct {
	*streams
	selectionOptions
	outputOptions
	progressOption
	cutOptions
	top   choice[bool] // whether to drop it
	clash choice[bool] // whether to replace
}

func newCreate(s *streams) *cobra.Command {
	c := &createCommand{streams: s,
		top:   choice[bool]{words: []string{"keep", "drop"}, values: []bool{false, true}},
		clash: replaceChoice()}
	cmd := &cobra.Command{
		Use:   "create ARCHIVE SOURCE… [OPTION…]",
		Short: "Make an archive",
		Long: `create packs files and folders into one archive, whose format its extension
tells. It compresses, and says what that saved. All sources are looked for
before anything is written, and the archive appears when it is complete.
Patterns are held against the paths that the entries get in the archive.`,
		Example: `  widecrate create hand-over.zip landing
  widecrate create hand-over.zip landing --top drop --clash replace
  widecrate create tables.zip readings corrections --pick "osk*"
  widecrate create month.zip readings --part-size 100k --part-style zip`,
		Args: cobra.MinimumNArgs(2),
		RunE: c.run,
	}
	group(cmd, "The archive", func() {
		c.top.addTo(cmd, "top", "whether the paths start with the name of a source folder")
		c.clash.addTo(cmd, "clash", "what to do about an archive that exists already")
		c.cutOptions.addTo(cmd)
	})
	group(cmd, "Which files", func() { c.selectionOptions.addTo(cmd) })
	group(cmd, "What is printed", func() {
		c.outputOptions.addTo(cmd, "what standard output holds: text for people, a line of JSON, or the archive's path", "text")
		c.progressOption.addTo(cmd)
	})
	return cmd
}

// created is the line of JSON about the archive.
type created struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Files   int            `json:"files"`
	Size    int64          `json:"size"`
	Bytes   int64          `json:"bytes"`
	LeftOut map[string]int `json:"left_out,omitempty"`
	Parts   []string       `json:"parts,omitempty"`
	Sums    string         `json:"sums,omitempty"`
	Seconds float64        `json:"seconds"`
}

func (c *createCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	selection, err := c.selection(cmd)
	if err != nil {
		return err
	}
	cut, err := c.cut(cmd)
	if err != nil {
		return err
	}
	var read atomic.Int64
	stop := c.startBytes(c.streams, c.quiet, &read, 0)
	r, err := create.Run(cmd.Context(), create.Options{Archive: args[0], Sources: args[1:],
		DropTop: c.top.Value(), Replace: c.clash.Value(), Selection: selection, Cut: cut, Read: &read})
	stop()
	if err != nil {
		return err
	}
	switch c.as.Value() {
	case asJSON:
		line := created{Kind: "archive", Archive: r.Archive, Files: r.Files, Size: r.Size, Bytes: r.Packed, LeftOut: byRule(r.LeftOut), Seconds: r.Took.Seconds()}
		if r.Parts != nil {
			line.Parts, line.Sums = r.Parts.Parts, r.Parts.List
		}
		_ = c.out.JSON().Encode(line) // the flush at the end tells
	case asNames:
		c.names(r)
	}
	if c.verbose {
		c.list(r)
	}
	if !c.quiet {
		c.summarize(r)
	}
	return c.checkMatches(selection, r.Files, r.LeftOut, c.quiet)
}

func (c *createCommand) names(r *create.Result) {
	if r.Parts == nil {
		c.name(c.out, r.Archive)
		return
	}
	for _, path := range append(r.Parts.Parts, r.Parts.List) {
		c.name(c.out, path)
	}
}

func (c *createCommand) list(r *create.Result) {
	s := c.summary(c.streams)
	for _, e := range r.Entries {
		if e.Kind == archive.File {
			s.Printf("  %9s → %9s  %-8s %s\n", show.Size(e.Size), show.Size(e.Packed), e.Method, s.Name(e.Path))
		}
	}
}

func (c *createCommand) summarize(r *create.Result) {
	s := c.summary(c.streams)
	s.Printf("%s\n", s.Strong(s.Name(r.Archive)))
	s.Printf("%s, %s packed into %s", show.Count(r.Files, "file"), show.Size(r.Size), show.Size(r.Packed))
	if r.Packed < r.Size {
		s.Printf(": %s saved", s.Good(show.Saved(r.Size, r.Packed)))
	}
	s.Printf("; %s; %s\n", tellLeftOut(r.LeftOut), show.Took(r.Took))
	if r.Parts != nil {
		tellParts(s, *r.Parts)
	}
	if r.Itself {
		s.Printf("The archive lies in a folder that was packed, and was left out of itself.\n")
	}
}
