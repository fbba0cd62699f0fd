package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/extract"
	"widecrate/core/inspect"
	"widecrate/core/source"
)

type inspectCommand struct {
	*streams
	selectionOptions
	outputOptions
}

func newInspect(s *streams) *cobra.Command {
	c := &inspectCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "inspect SOURCE…",
		Short: "Look inside many archives without unpacking",
		Long: `inspect lists what archives hold: files, and folders for the archives in them.
It reads only the directory of an archive, however large that is.`,
		Example: `  widecrate inspect readings/gull-ness-2026-05-01.zip
  widecrate inspect readings --ext csv --as names
  widecrate inspect readings --as json`,
		Args: cobra.MinimumNArgs(1),
		RunE: c.run,
	}
	c.selectionOptions.addTo(cmd)
	c.outputOptions.addTo(cmd, "table")
	return cmd
}

// counts are the totals of a listing.
type counts struct {
	files        int
	size, packed int64
	leftOut      choose.Tally
}

func (n *counts) add(e *archive.Entry) {
	if e.Kind != archive.Folder {
		n.files++
		n.size += max(e.Size, 0)
		n.packed += max(e.Packed, 0)
	}
}

func (c *inspectCommand) run(cmd *cobra.Command, args []string) error {
	selection, err := c.selection()
	if err != nil {
		return err
	}
	list := map[form]func(*inspect.Archive, *counts) error{asText: c.table, asJSON: c.json, asNames: c.names}[c.as.Value()]
	var totals counts
	var failures extract.Totals
	err = inspect.Run(cmd.Context(), source.Find(args), selection, func(a *inspect.Archive, err error) error {
		var n counts
		if err == nil {
			err = list(a, &n)
		}
		failures.Add(&extract.Outcome{Err: err})
		if err != nil {
			c.err.Problem(err)
		}
		totals.files += n.files
		totals.size += n.size
		totals.packed += n.packed
		totals.leftOut.Add(n.leftOut)
		return nil
	})
	switch {
	case err != nil:
		return err
	case failures.Archives == 0 && !c.quiet:
		c.summary(c.streams).Printf("No archive in %s: nothing to do.\n", args[0])
	case failures.Archives > 1 && c.as.Value() == asText && !c.quiet:
		c.out.Printf("\n%s: %s\n", c.out.Strong(show.Count(failures.Archives-failures.Failed, "archive")), totals)
	}
	switch {
	case failures.Failed > 0:
		return reported{failures.Err()}
	case totals.files == 0 && totals.leftOut.LeftOut() > 0:
		return noMatch(totals.leftOut)
	}
	c.warnUnmatched(selection)
	return nil
}

func (n counts) String() string {
	text := fmt.Sprintf("%s, %s, packed %s", show.Count(n.files, "file"), show.Size(n.size), show.Size(n.packed))
	if saved := show.Saved(n.size, n.packed); saved != "" {
		text += ", saved " + saved
	}
	return text + "; " + leftOut(n.leftOut)
}

// table lists an archive for people.
func (c *inspectCommand) table(a *inspect.Archive, n *counts) error {
	if c.quiet {
		return nil
	}
	var ignored choose.Tally
	path := show.Column{Title: "path", Short: true}
	for _, e := range a.Entries(&ignored) {
		path.Width = max(path.Width, show.Width(c.pathOf(e)))
	}
	c.out.Printf("%s  %s\n", c.out.Strong(c.out.Name(a.Source.Path)), c.out.Faint(show.Size(a.Size)))
	columns := []show.Column{path, {Title: "size", Width: 9, Right: true}, {Title: "packed", Width: 9, Right: true},
		{Title: "saved", Width: 5, Right: true}, {Title: "modified", Width: len(minute)}}
	if c.verbose {
		columns = append(columns, show.Column{Title: "method"})
	}
	t := show.NewTable(c.out, columns...)
	for _, e := range a.Entries(&n.leftOut) {
		n.add(e)
		row := [6]string{c.pathOf(e)}
		if e.Kind == archive.File {
			row[1], row[2], row[3] = show.Size(e.Size), show.Size(e.Packed), show.Saved(e.Size, e.Packed)
		}
		if !e.Modified.IsZero() {
			row[4] = e.Modified.Local().Format(minute)
		}
		row[5] = e.Method
		t.Row(row[:len(columns)]...)
	}
	c.out.Printf("%s\n", n)
	return nil
}

const minute = "2006-01-02 15:04"

func (c *inspectCommand) pathOf(e *archive.Entry) string {
	if e.Kind == archive.Folder {
		return c.out.Name(e.Path) + "/"
	}
	return c.out.Name(e.Path)
}

// names lists the paths of an archive.
func (c *inspectCommand) names(a *inspect.Archive, n *counts) error {
	for _, e := range a.Entries(&n.leftOut) {
		n.add(e)
		c.out.WriteString(c.pathOf(e))
		c.out.WriteByte('\n')
	}
	return nil
}

// entryLine is a line of JSON for each entry.
type entryLine struct {
	Kind      string `json:"kind"`
	Archive   string `json:"archive"`
	Path      string `json:"path"`
	Type      string `json:"type"`
	Size      *int64 `json:"size"`
	Packed    *int64 `json:"packed"`
	Modified  string `json:"modified,omitempty"`
	Mode      string `json:"mode,omitempty"`
	Method    string `json:"method"`
	CRC32     string `json:"crc32,omitempty"`
	Encrypted bool   `json:"encrypted"`
	Link      string `json:"link,omitempty"`
}

// archiveLine is a line of JSON behind those of an archive's entries.
type archiveLine struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Bytes   int64          `json:"bytes"`
	Files   int            `json:"files"`
	Size    int64          `json:"size"`
	Packed  int64          `json:"packed"`
	LeftOut map[string]int `json:"left_out,omitempty"`
}

func (c *inspectCommand) json(a *inspect.Archive, n *counts) error {
	enc := c.out.JSON()
	for i, e := range a.Entries(&n.leftOut) {
		n.add(e)
		line := entryLine{Kind: "entry", Archive: a.Source.Path, Path: e.Path, Type: e.Kind.String(),
			Size: &e.Size, Packed: &e.Packed, Method: e.Method, Encrypted: e.Encrypted}
		if !e.Modified.IsZero() {
			line.Modified = e.Modified.Format(time.RFC3339)
		}
		if e.HasMode {
			line.Mode = fmt.Sprintf("%04o", e.Mode)
		}
		if e.HasCRC32 {
			line.CRC32 = fmt.Sprintf("%08x", e.CRC32)
		}
		if e.Kind == archive.Symlink && !e.Encrypted {
			var err error
			if line.Link, err = a.Link(i); err != nil {
				return err
			}
		}
		if err := enc.Encode(line); err != nil {
			return err
		}
	}
	return enc.Encode(archiveLine{"archive", a.Source.Path, a.Size, n.files, n.size, n.packed, byRule(n.leftOut)})
}
