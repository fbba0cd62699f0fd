package cli

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/maruel/natural"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/inspect"
	"widecrate/core/place"
	"widecrate/core/report"
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
		for _, remark := range a.Remarks {
			c.out.Printf("  %s\n", c.out.Faint(c.out.Name(c.out.Say.With(remark.Text, remark.Hint))))
		}
	}
}

// onlyTotals counts an archive whose entries are not to be listed.
func (c *inspectCommand) onlyTotals(a *inspect.Archive, n *counts) {
	for _, e := range a.Entries(&n.LeftOut) {
		n.Count(e)
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
	longest, method := show.Column{Title: "path", Short: true}, show.Column{Title: "method"}
	notes := false
	for _, e := range a.Entries(&ignored) {
		notes = notes || note(e) != ""
		longest.Width = max(longest.Width, show.Width(c.pathOf(e)))
		method.Width = max(method.Width, len(e.Method))
	}
	c.title(a)
	columns := []show.Column{longest, {Title: "size", Width: 9, Right: true}, {Title: "packed", Width: 9, Right: true},
		{Title: "saved", Width: 5, Right: true}, {Title: "modified", Width: len(minute)}}
	if c.verbose {
		columns = append(columns, method)
	}
	if notes {
		columns = append(columns, show.Column{Title: "note"})
	}
	t := show.NewTable(c.out, columns...)
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		row := make([]string, 5, len(columns))
		row[0] = c.pathOf(e)
		if e.Kind == archive.File {
			row[1] = show.Size(e.Size)
			if e.Packed != archive.Unknown {
				row[2], row[3] = show.Size(e.Packed), show.Saved(e.Size, e.Packed)
			}
		}
		if !e.Modified.IsZero() {
			row[4] = e.Modified.Local().Format(minute)
		}
		if c.verbose {
			row = append(row, e.Method)
		}
		if notes {
			row = append(row, note(e))
		}
		t.Row(row...)
	}
	c.out.Printf("%s\n", n)
	return nil
}

// isUnsafe reports whether extract would refuse an entry, as far as is known of a link.
func isUnsafe(e *archive.Entry, link string) bool {
	return place.Check(e, cmp.Or(link, ".")) != nil
}

// note is what a person has to know of an entry.
func note(e *archive.Entry) string {
	switch {
	case isUnsafe(e, e.Link):
		return "unsafe"
	case e.Encrypted:
		return "locked"
	}
	return ""
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
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		b := top
		names := strings.Split(strings.Trim(e.Path, "/"), "/")
		for i, name := range names {
			if i == len(names)-1 && e.Kind != archive.Folder {
				b.entries = append(b.entries, e)
				break
			}
			b = b.below(name)
			b.Count(e)
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
			c.out.Faint(show.Count(below.Files, "file")+", "+show.Size(below.Size)))
		c.printBranch(below, depth+1)
	}
	for _, e := range b.entries {
		c.out.Printf("%s%s  %s\n", indent, c.out.Name(path.Base(e.Path)), c.out.Faint(show.Size(max(e.Size, 0))))
	}
}

// names lists the paths of an archive.
func (c *inspectCommand) names(a *inspect.Archive, n *counts) error {
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
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

// each counts the entries of an archive, and gives those to be listed to print.
func (c *inspectCommand) each(a *inspect.Archive, n *counts, print func(e *archive.Entry, link string) error) error {
	for i, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		if c.totals {
			continue
		}
		link := ""
		if e.Kind == archive.Symlink && !e.Encrypted {
			var err error
			if link, err = a.Link(i); err != nil {
				return err
			}
		}
		if err := print(e, link); err != nil {
			return err
		}
	}
	return nil
}

// lines prints JSON.
func (c *inspectCommand) lines(a *inspect.Archive, n *counts) error {
	var line []byte
	err := c.each(a, n, func(e *archive.Entry, link string) error {
		line = report.AppendEntry(line[:0], a.Path, e, link, isUnsafe(e, link))
		_, err := c.out.Write(line)
		return err
	})
	if err == nil {
		c.json(&n.Listed)
	}
	return err
}

func (c *inspectCommand) csvTitles() {
	titles := "archive,path,type,size,packed,modified,mode,method,crc32,encrypted,link,unsafe"
	if c.totals {
		titles = "archive,files,size,packed"
	}
	c.out.Printf("%s\n", titles)
}

func (c *inspectCommand) csv(a *inspect.Archive, n *counts) error {
	w := csv.NewWriter(c.out)
	err := c.each(a, n, func(e *archive.Entry, link string) error {
		f := report.FieldsOf(e)
		return w.Write([]string{a.Path, e.Path, e.Kind.String(), csvSize(e.Size), csvSize(e.Packed), string(f.Modified),
			string(f.Mode), e.Method, string(f.CRC32), strconv.FormatBool(e.Encrypted), link, strconv.FormatBool(isUnsafe(e, link))})
	})
	if err != nil {
		return err
	}
	if c.totals {
		if err := w.Write([]string{a.Path, fmt.Sprint(n.Files), fmt.Sprint(n.Size), n.csvPacked()}); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func (n *counts) csvPacked() string {
	if n.Together {
		return ""
	}
	return fmt.Sprint(n.Packed)
}

func csvSize(size int64) string {
	if size == archive.Unknown {
		return ""
	}
	return strconv.FormatInt(size, 10)
}
