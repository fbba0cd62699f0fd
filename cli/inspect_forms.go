package cli

import (
	"cmp"
	"encoding/binary"
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/maruel/natural"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/inspect"
)

// order compares two entries for a sorted listing.
type order func(a, b *archive.Entry) int

func byPath(a, b *archive.Entry) int     { return natural.Compare(a.Path, b.Path) }
func bySize(a, b *archive.Entry) int     { return cmp.Compare(b.Size, a.Size) }
func byPacked(a, b *archive.Entry) int   { return cmp.Compare(b.Packed, a.Packed) }
func byModified(a, b *archive.Entry) int { return b.Modified.Compare(a.Modified) }
func bySaved(a, b *archive.Entry) int    { return cmp.Compare(savedShare(b), savedShare(a)) }

func savedShare(e *archive.Entry) float64 {
	if e.Size <= 0 || e.Packed < 0 {
		return 0
	}
	return float64(e.Size-e.Packed) / float64(e.Size)
}

// title starts the listing of one archive for people.
func (c *inspectCommand) title(a *inspect.Archive) {
	if c.listed > 0 && !c.totals {
		c.out.Printf("\n")
	}
	c.listed++
	remark := ""
	if c.verbose {
		remark = misnamed(a.Path, a.Format)
	}
	c.out.Printf("%s  %s%s\n", c.out.Strong(c.out.Name(a.Path)), c.out.Faint(show.Size(a.Size)), remark)
	if c.verbose {
		for _, text := range a.Remarks {
			c.out.Printf("  %s\n", c.out.Faint(c.out.Name(text)))
		}
	}
}

// onlyTotals counts an archive whose entries are not to be listed.
func (c *inspectCommand) onlyTotals(a *inspect.Archive, n *counts) {
	for _, e := range a.Entries(&n.leftOut) {
		n.add(e)
	}
	if !c.quiet {
		c.title(a)
		c.out.Printf("  %s\n", n)
	}
}

// table lists an archive for people. It goes through the entries twice, first
// for the width of the longest path, and holds no row.
func (c *inspectCommand) table(a *inspect.Archive, n *counts) error {
	if c.totals || c.quiet {
		c.onlyTotals(a, n)
		return nil
	}
	var ignored choose.Tally
	longest := show.Column{Title: "path", Short: true}
	for _, e := range a.Entries(&ignored) {
		longest.Width = max(longest.Width, show.Width(c.pathOf(e)))
	}
	c.title(a)
	columns := []show.Column{longest, {Title: "size", Width: 9, Right: true}, {Title: "packed", Width: 9, Right: true},
		{Title: "saved", Width: 5, Right: true}, {Title: "modified", Width: len(minute)}}
	if c.verbose {
		columns = append(columns, show.Column{Title: "method"})
	}
	t := show.NewTable(c.out, columns...)
	for _, e := range c.entries(a, &n.leftOut) {
		n.add(e)
		row := [6]string{c.pathOf(e)}
		if e.Kind == archive.File {
			row[1] = show.Size(e.Size)
			if e.Packed != archive.Unknown {
				row[2], row[3] = show.Size(e.Packed), show.Saved(e.Size, e.Packed)
			}
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

// branch is a folder of a tree.
type branch struct {
	folders map[string]*branch
	entries []*archive.Entry
	counts  // of all below
}

func (b *branch) below(name string) *branch {
	if b.folders[name] == nil {
		b.folders[name] = &branch{folders: map[string]*branch{}}
	}
	return b.folders[name]
}

// tree lists an archive by its folders, with what is in each.
func (c *inspectCommand) tree(a *inspect.Archive, n *counts) error {
	if c.totals || c.quiet {
		c.onlyTotals(a, n)
		return nil
	}
	top := &branch{folders: map[string]*branch{}}
	for _, e := range c.entries(a, &n.leftOut) {
		n.add(e)
		b := top
		names := strings.Split(strings.Trim(e.Path, "/"), "/")
		for i, name := range names {
			if i == len(names)-1 && e.Kind != archive.Folder {
				b.entries = append(b.entries, e)
				break
			}
			b = b.below(name)
			b.add(e)
		}
	}
	if a.Depth == 0 {
		c.title(a)
	} else {
		c.out.Printf("%s%s  %s\n", strings.Repeat("  ", a.Depth), c.out.Strong(c.out.Name(a.Inside)), c.out.Faint(show.Size(a.Size)))
	}
	c.printBranch(top, a.Depth+1)
	return nil
}

func (c *inspectCommand) printBranch(b *branch, depth int) {
	indent := strings.Repeat("  ", depth)
	names := make([]string, 0, len(b.folders))
	for name := range b.folders {
		names = append(names, name)
	}
	slices.SortFunc(names, natural.Compare)
	for _, name := range names {
		below := b.folders[name]
		c.out.Printf("%s%s  %s\n", indent, c.out.Strong(c.out.Name(name)+"/"),
			c.out.Faint(show.Count(below.files, "file")+", "+show.Size(below.size)))
		c.printBranch(below, depth+1)
	}
	for _, e := range b.entries {
		c.out.Printf("%s%s  %s\n", indent, c.out.Name(path.Base(e.Path)), c.out.Faint(show.Size(max(e.Size, 0))))
	}
}

// names lists the paths of an archive.
func (c *inspectCommand) names(a *inspect.Archive, n *counts) error {
	for _, e := range c.entries(a, &n.leftOut) {
		n.add(e)
		if c.totals {
			continue
		}
		p := e.Path
		if e.Kind == archive.Folder {
			p += "/"
		}
		c.name(c.out, p)
	}
	return nil
}

// fields are the values of an entry as scripts get them.
type fields struct {
	*archive.Entry
	link string
}

// each counts the entries of an archive, and gives those to be listed to print.
func (c *inspectCommand) each(a *inspect.Archive, n *counts, print func(fields) error) error {
	for i, e := range c.entries(a, &n.leftOut) {
		n.add(e)
		if c.totals {
			continue
		}
		f := fields{Entry: e}
		if e.Kind == archive.Symlink && !e.Encrypted {
			var err error
			if f.link, err = a.Link(i); err != nil {
				return err
			}
		}
		if err := print(f); err != nil {
			return err
		}
	}
	return nil
}

func (f fields) modified() []byte {
	if f.Modified.IsZero() {
		return nil
	}
	return f.Modified.AppendFormat(make([]byte, 0, 32), time.RFC3339)
}

func (f fields) mode() []byte {
	if !f.HasMode {
		return nil
	}
	return []byte{'0', '0' + byte(f.Mode>>6&7), '0' + byte(f.Mode>>3&7), '0' + byte(f.Mode&7)}
}

func (f fields) crc32() []byte {
	if !f.HasCRC32 {
		return nil
	}
	return hex.AppendEncode(make([]byte, 0, 8), binary.BigEndian.AppendUint32(make([]byte, 0, 4), f.CRC32))
}

// appendJSON appends the line of JSON for an entry. It is written out by hand
// because a listing may have millions of them.
func (f fields) appendJSON(b []byte, archivePath string) []byte {
	text := func(key string, value []byte) {
		if value != nil {
			b = append(append(append(b, key...), value...), '"')
		}
	}
	b = show.AppendJSON(append(b, `{"kind":"entry","archive":`...), archivePath)
	b = show.AppendJSON(append(b, `,"path":`...), f.Path)
	b = append(append(b, `,"type":"`...), f.Kind.String()...)
	b = appendSize(append(b, `","size":`...), f.Size)
	b = appendSize(append(b, `,"packed":`...), f.Packed)
	text(`,"modified":"`, f.modified())
	text(`,"mode":"`, f.mode())
	b = show.AppendJSON(append(b, `,"method":`...), f.Method)
	text(`,"crc32":"`, f.crc32())
	b = strconv.AppendBool(append(b, `,"encrypted":`...), f.Encrypted)
	if f.link != "" {
		b = show.AppendJSON(append(b, `,"link":`...), f.link)
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
	Packed  *int64         `json:"packed"`
	LeftOut map[string]int `json:"left_out,omitempty"`
}

func (c *inspectCommand) json(a *inspect.Archive, n *counts) error {
	var line []byte
	err := c.each(a, n, func(f fields) error {
		line = f.appendJSON(line[:0], a.Path)
		_, err := c.out.Write(line)
		return err
	})
	if err != nil {
		return err
	}
	packed := &n.packed
	if n.together {
		packed = nil
	}
	return c.out.JSON().Encode(archiveLine{"archive", a.Path, a.Size, n.files, n.size, packed, byRule(n.leftOut)})
}

func (c *inspectCommand) csvTitles() {
	titles := "archive,path,type,size,packed,modified,mode,method,crc32,encrypted,link"
	if c.totals {
		titles = "archive,files,size,packed"
	}
	c.out.Printf("%s\n", titles)
}

func (c *inspectCommand) csv(a *inspect.Archive, n *counts) error {
	w := csv.NewWriter(c.out)
	err := c.each(a, n, func(f fields) error {
		return w.Write([]string{a.Path, f.Path, f.Kind.String(), csvSize(f.Size), csvSize(f.Packed), string(f.modified()),
			string(f.mode()), f.Method, string(f.crc32()), strconv.FormatBool(f.Encrypted), f.link})
	})
	if err != nil {
		return err
	}
	if c.totals {
		if err := w.Write([]string{a.Path, fmt.Sprint(n.files), fmt.Sprint(n.size), n.csvPacked()}); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func (n *counts) csvPacked() string {
	if n.together {
		return ""
	}
	return fmt.Sprint(n.packed)
}

func csvSize(size int64) string {
	if size == archive.Unknown {
		return ""
	}
	return strconv.FormatInt(size, 10)
}
