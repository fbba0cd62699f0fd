package cli

import (
	"errors"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
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
		c.outputOptions.addTo(set, "table")
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
	switch c.as.Value() {
	case asJSON:
		for i := range sets {
			c.json(sets[i])
		}
		for _, err := range errs {
			c.json(&report.Failed{Err: err})
		}
	case asNames:
		for _, set := range sets {
			if set.Err != nil {
				c.name(c.out, set.Path)
			}
		}
	default:
		c.table(sets)
	}
	for _, err := range errs {
		failures.Add(err)
		c.problem(err)
	}
	if !c.quiet {
		c.summarize(sets)
	}
	return shown(&failures)
}

func (c *scanCommand) summarize(sets []*report.Set) {
	s := c.summary(c.streams)
	s.Printf("%s", s.Strong(show.Count(len(sets), "set")))
	bad, summed := 0, 0
	for _, set := range sets {
		summed += set.Summed
		if set.Err != nil {
			bad++
		}
	}
	if c.checkSums != "" {
		s.Printf(", %s checked", show.Count(summed, "SHA-256 sum"))
	}
	if bad > 0 {
		s.Printf(", %s", s.Bad(show.Number(bad)+" not complete"))
	}
	s.Printf("\n")
}

func (c *scanCommand) table(sets []*report.Set) {
	if len(sets) == 0 || c.quiet {
		return
	}
	name := show.Column{Title: "set", Short: true}
	label := func(set *parts.Set) string {
		return c.out.Name(filepath.Join(filepath.Dir(set.Path()), set.Name))
	}
	for _, set := range sets {
		name.Width = max(name.Width, show.Width(label(set.Set)))
	}
	t := show.NewTable(c.out, name, show.Column{Title: "kind", Width: 9}, show.Column{Title: "parts", Width: 8, Right: true},
		show.Column{Title: "size", Width: 9, Right: true}, show.Column{Title: "complete", Text: true})
	for _, set := range sets {
		state := c.out.Good("yes")
		switch {
		case set.Missing != nil:
			state = c.out.Bad("no") + ": missing " + c.out.Name(parts.Shorten(set.Missing))
		case set.Err != nil:
			state = c.out.Bad("no") + ": " + c.out.Name(why(set.Err))
		case set.Open:
			state = "yes, unless more follow: the last part is as large as the others"
		}
		t.Row(label(set.Set), set.Type, show.Number(set.Found())+" of "+show.Number(set.Expected), show.Size(set.Size), state)
	}
}

// why is an error without the place, which stands beside it.
func why(err error) string {
	if e, ok := errors.AsType[*fault.Error](err); ok {
		return e.Err.Error()
	}
	return err.Error()
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
		c.outputOptions.addTo(set, "text")
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
	took := time.Since(started)
	switch c.as.Value() {
	case asJSON:
		c.json(&report.Joined{Path: absolutePath(j.Path), Parts: len(set.Parts), Size: j.Size, Summed: j.Summed, Took: report.Took{Duration: took}})
	case asNames:
		c.name(c.out, absolutePath(j.Path))
	}
	if c.quiet {
		return nil
	}
	s := c.summary(c.streams)
	s.Printf("%s: %s from %s", s.Strong(s.Name(j.Path)), show.Size(j.Size), show.Count(len(set.Parts), "part"))
	if j.Zip {
		s.Printf(", an ordinary ZIP archive now")
	}
	s.Printf("; %s; %s\n", sumsChecked(set, j.Summed), show.Took(took))
	return nil
}

func sumsChecked(set *parts.Set, n int) string {
	switch {
	case n == 0 && set.Elsewhere():
		return "lists of sums are not looked for at addresses; --check-sums names one"
	case n == 0:
		return "there is no list of sums beside the parts"
	}
	return show.Count(n, "SHA-256 sum") + " checked"
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
		c.outputOptions.addTo(set, "text")
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
	took := time.Since(started)
	switch c.as.Value() {
	case asJSON:
		c.json(&report.Split{Parts: w.Parts, Sums: w.List, Size: w.Size, Took: report.Took{Duration: took}})
	case asNames:
		c.nameArchive(c.out, "", &report.Made{Parts: w.Parts, Sums: w.List})
	}
	if !c.quiet {
		s := c.summary(c.streams)
		tellParts(s, w.Parts, w.List)
		s.Printf("%s written; %s\n", show.Size(w.Size), show.Took(took))
	}
	return nil
}

// nameArchive prints the path of a new archive, or those of its parts and of the
// list of their sums.
func (o *outputOptions) nameArchive(s *show.Screen, path string, m *report.Made) {
	if m.Parts == nil {
		o.name(s, path)
		return
	}
	for _, part := range append(slices.Clone(m.Parts), m.Sums) {
		o.name(s, part)
	}
}

// tellParts says what parts were written.
func tellParts(s *show.Screen, parts []string, sums string) {
	names := filepath.Base(parts[0])
	if len(parts) > 1 {
		names += " … " + filepath.Base(parts[len(parts)-1])
	}
	s.Printf("%s in %s: %s\n", s.Strong(show.Count(len(parts), "part")), s.Name(filepath.Dir(sums)), s.Name(names))
	s.Printf("SHA-256 sums in %s\n", s.Name(filepath.Base(sums)))
}

// replaceChoice is whether what is written may replace what is there.
func replaceChoice() option.Choice[bool] {
	return option.Either([]string{"refuse", "replace"}, false, true)
}
