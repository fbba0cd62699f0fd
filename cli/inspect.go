package cli

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
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
	listed int // archives, in tables
}

func newInspect(s *streams) *cobra.Command {
	c := &inspectCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "inspect SOURCE… [OPTION…]",
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
			c.problem(err)
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
		c.summary(c.streams).Printf("No archive in %s: nothing to do.\n", strings.Join(args, ", "))
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
	if c.listed > 0 {
		c.out.Printf("\n")
	}
	c.listed++
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

// appendEntry appends the line of JSON for an entry. It is written out by hand
// because a listing may have millions of them.
func appendEntry(b []byte, archivePath string, e *archive.Entry, link string) []byte {
	b = append(b, `{"kind":"entry","archive":`...)
	b = show.AppendJSON(b, archivePath)
	b = append(b, `,"path":`...)
	b = show.AppendJSON(b, e.Path)
	b = append(b, `,"type":"`...)
	b = append(b, e.Kind.String()...)
	b = append(b, `","size":`...)
	b = appendSize(b, e.Size)
	b = append(b, `,"packed":`...)
	b = appendSize(b, e.Packed)
	if !e.Modified.IsZero() {
		b = append(b, `,"modified":"`...)
		b = e.Modified.AppendFormat(b, time.RFC3339)
		b = append(b, '"')
	}
	if e.HasMode {
		b = append(b, `,"mode":"0`...)
		b = append(b, '0'+byte(e.Mode>>6&7), '0'+byte(e.Mode>>3&7), '0'+byte(e.Mode&7), '"')
	}
	b = append(b, `,"method":`...)
	b = show.AppendJSON(b, e.Method)
	if e.HasCRC32 {
		b = append(b, `,"crc32":"`...)
		b = hex.AppendEncode(b, binary.BigEndian.AppendUint32(nil, e.CRC32))
		b = append(b, '"')
	}
	b = append(b, `,"encrypted":`...)
	b = strconv.AppendBool(b, e.Encrypted)
	if link != "" {
		b = append(b, `,"link":`...)
		b = show.AppendJSON(b, link)
	}
	return append(b, "}\n"...)
}

// appendSize appends a size, null where the archive does not tell it.
func appendSize(b []byte, size int64) []byte {
	if size == archive.Unknown {
		return append(b, "null"...)
	}
	return strconv.AppendInt(b, size, 10)
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
	var line []byte
	for i, e := range a.Entries(&n.leftOut) {
		n.add(e)
		link := ""
		if e.Kind == archive.Symlink && !e.Encrypted {
			var err error
			if link, err = a.Link(i); err != nil {
				return err
			}
		}
		line = appendEntry(line[:0], a.Source.Path, e, link)
		c.out.Write(line)
	}
	return c.out.JSON().Encode(archiveLine{"archive", a.Source.Path, a.Size, n.files, n.size, n.packed, byRule(n.leftOut)})
}
