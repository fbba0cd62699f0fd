package show

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/maruel/natural"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/inspect"
	"widecrate/core/place"
	"widecrate/core/report"
)

// Listing shows what is in archives.
type Listing struct {
	*Output
	Totals   bool  // and not each entry
	Sort     Order // nil: in the order of the archive
	Selected bool  // not all entries are asked for: archives without any are not shown
	Nested   bool  // archives inside are looked into
	Many     bool  // there may be several archives
	Readings bool  // what names could be that do not say their encoding, which were read as charset.Raw
	Started  time.Time

	All      report.Listed // of all archives
	Failures report.Failures
	good     int
	without  int // archives that nothing was selected of
	titles   int // archives, in forms for people
	joint    jointTable
}

// Links reports whether the form has where links lead.
func (c *Listing) Links() bool { return !c.Totals && (c.Form == JSON || c.Form == CSV) }

// Begin starts the listing.
func (c *Listing) Begin() {
	if c.Form == CSV {
		c.csvTitles()
	}
}

// Archive lists an archive, or shows why nobody could look into it.
func (c *Listing) Archive(a *inspect.Archive, err error) error {
	n := &report.Listed{Archive: a.Path, Bytes: a.Size, Remarks: a.Remarks}
	if err == nil {
		list := map[Form]func(*inspect.Archive, *report.Listed) error{People: c.table, Tree: c.tree, JSON: c.lines, Names: c.names, CSV: c.csv, Archives: c.archives}[c.Form]
		if c.Form == People && c.Selected && c.Many && !c.Totals && !c.Quiet {
			list = c.jointly
		}
		if c.Readings {
			list = c.readings
		}
		err = list(a, n)
	}
	if err != nil {
		c.Failures.Add(err)
		c.Problem(err)
		c.Event(&report.Listed{Archive: a.Path, Bytes: a.Size, Err: err})
		return nil
	}
	c.good++
	if n.Files == 0 {
		c.without++
	}
	c.All.Add(n)
	return nil
}

// Finish says what all archives come to.
func (c *Listing) Finish() {
	c.Event(&report.Ended{Archives: c.good, Failed: c.Failures.Count(), Files: c.All.Files, Bytes: c.All.Size, LeftOut: c.All.LeftOut, Took: report.Since(c.Started)})
	if c.Readings {
		return
	}
	c.joint.flush(c)
	if c.Selected && c.Many && !c.Quiet && (c.Form == People || c.Form == Tree || c.Form == Archives) && c.good > 0 {
		s := c.Summary()
		s.Printf("%s of %s: %s\n", s.Strong(Number(c.good-c.without)), Count(c.good, "archive"), totalsOf(&c.All))
		return
	}
	if people := c.Form == People || c.Form == Tree; !c.Quiet && people && (c.good > 1 || c.good == 1 && c.Form == Tree && !c.Totals) {
		c.Out.Printf("\n%s: %s\n", c.Out.Strong(Count(c.good, "archive")), totalsOf(&c.All))
	}
}

func totalsOf(n *report.Listed) string {
	text := fmt.Sprintf("%s, %s", Count(n.Files, "file"), Size(n.Size))
	if n.Together {
		return text + ", compressed together" + left(&n.LeftOut)
	}
	text += ", packed " + Size(n.Packed)
	if saved := Saved(n.Size, n.Packed); saved != "" {
		text += ", saved " + saved
	}
	return text + left(&n.LeftOut)
}

// item is an entry of a listing.
type item struct {
	index int // in the archive
	*archive.Entry
}

// entries goes through what the selection keeps, in the order asked for.
func (c *Listing) entries(a *inspect.Archive, leftOut *choose.Tally) func(yield func(int, *archive.Entry) bool) {
	if c.Sort == nil {
		return a.Entries(leftOut)
	}
	return func(yield func(int, *archive.Entry) bool) {
		var items []item
		for i, e := range a.Entries(leftOut) {
			items = append(items, item{i, e})
		}
		slices.SortStableFunc(items, func(x, y item) int { return c.Sort(x.Entry, y.Entry) })
		for _, it := range items {
			if !yield(it.index, it.Entry) {
				return
			}
		}
	}
}

// Order compares two entries for a sorted listing.
type Order func(a, b *archive.Entry) int

// The orders: the largest, the newest and what saves most come first.
var (
	ByPath     Order = func(a, b *archive.Entry) int { return natural.Compare(a.Path, b.Path) }
	BySize     Order = func(a, b *archive.Entry) int { return cmp.Compare(b.Size, a.Size) }
	ByPacked   Order = func(a, b *archive.Entry) int { return cmp.Compare(b.Packed, a.Packed) }
	ByModified Order = func(a, b *archive.Entry) int { return b.Modified.Compare(a.Modified) }
	BySaved    Order = func(a, b *archive.Entry) int { return cmp.Compare(savedShare(b), savedShare(a)) }
)

func savedShare(e *archive.Entry) float64 {
	if e.Size <= 0 || e.Packed < 0 {
		return 0
	}
	return float64(e.Size-e.Packed) / float64(e.Size)
}

// title starts the listing of one archive for people.
func (c *Listing) title(a *inspect.Archive) {
	if c.titles > 0 && !c.Totals {
		c.Out.Printf("\n")
	}
	c.titles++
	remark := ""
	if c.Verbose {
		remark = misnamed(a.Path, a.Format)
	}
	c.Out.Printf("%s  %s%s\n", c.Out.Strong(c.Out.Name(a.Path)), c.Out.Faint(Size(a.Size)), remark)
	for _, remark := range a.Remarks {
		if remark.Reported || c.Verbose {
			c.Out.Printf("  %s\n", c.Out.Faint(c.Out.Name(c.Out.Say.With(remark.Text, remark.Hint))))
		}
	}
}

// onlyTotals counts an archive whose entries are not to be listed.
func (c *Listing) onlyTotals(a *inspect.Archive, n *report.Listed) {
	for _, e := range a.Entries(&n.LeftOut) {
		n.Count(e)
	}
	if !c.Quiet && !(c.Selected && c.Many && n.Files == 0) {
		c.title(a)
		c.Out.Printf("  %s\n", totalsOf(n))
	}
}

// table lists an archive for people. It goes through the entries twice, first
// for the width of the longest path, and holds no row.
func (c *Listing) table(a *inspect.Archive, n *report.Listed) error {
	if c.Totals || c.Quiet {
		c.onlyTotals(a, n)
		return nil
	}
	var ignored choose.Tally
	longest, method := Column{Title: "path", Short: true}, Column{Title: "method"}
	notes := false
	for _, e := range a.Entries(&ignored) {
		notes = notes || note(e) != ""
		longest.Width = max(longest.Width, Width(c.pathOf(e)))
		method.Width = max(method.Width, len(e.Method))
	}
	c.title(a)
	columns := []Column{longest, {Title: "size", Width: 9, Right: true}, {Title: "packed", Width: 9, Right: true},
		{Title: "saved", Width: 5, Right: true}, {Title: "modified", Width: len(minute)}}
	if c.Verbose {
		columns = append(columns, method)
	}
	if notes {
		columns = append(columns, Column{Title: "note"})
	}
	t := NewTable(c.Out, columns...)
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		row := make([]string, 5, len(columns))
		row[0] = c.pathOf(e)
		if e.Kind == archive.File {
			row[1] = Size(e.Size)
			if e.Packed != archive.Unknown {
				row[2], row[3] = Size(e.Packed), Saved(e.Size, e.Packed)
			}
		}
		if !e.Modified.IsZero() {
			row[4] = e.Modified.Local().Format(minute)
		}
		if c.Verbose {
			row = append(row, e.Method)
		}
		if notes {
			row = append(row, note(e))
		}
		t.Row(row...)
	}
	c.Out.Printf("%s\n", totalsOf(n))
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

func (c *Listing) pathOf(e *archive.Entry) string {
	if e.Kind == archive.Folder {
		return c.Out.Name(e.Path) + "/"
	}
	return c.Out.Name(e.Path)
}

// branch is a folder of a tree.
type branch struct {
	folders       map[string]*branch
	entries       []*archive.Entry
	report.Listed // of all below
}

func (b *branch) below(name string) *branch {
	if b.folders[name] == nil {
		b.folders[name] = &branch{folders: map[string]*branch{}}
	}
	return b.folders[name]
}

// tree lists an archive by its folders, with what is in each.
func (c *Listing) tree(a *inspect.Archive, n *report.Listed) error {
	if c.Totals || c.Quiet {
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
	outer := c.Nested && a.Depth == 0 // something may be selected of what is inside
	if c.Selected && c.Many && n.Files == 0 && !outer {
		return nil
	}
	if a.Depth == 0 {
		c.title(a)
	} else {
		c.Out.Printf("%s%s  %s\n", strings.Repeat("  ", a.Depth), c.Out.Strong(c.Out.Name(a.Inside)), c.Out.Faint(Size(a.Size)))
	}
	c.printBranch(top, a.Depth+1)
	return nil
}

func (c *Listing) printBranch(b *branch, depth int) {
	indent := strings.Repeat("  ", depth)
	names := make([]string, 0, len(b.folders))
	for name := range b.folders {
		names = append(names, name)
	}
	slices.SortFunc(names, natural.Compare)
	for _, name := range names {
		below := b.folders[name]
		c.Out.Printf("%s%s  %s\n", indent, c.Out.Strong(c.Out.Name(name)+"/"),
			c.Out.Faint(Count(below.Files, "file")+", "+Size(below.Size)))
		c.printBranch(below, depth+1)
	}
	for _, e := range b.entries {
		c.Out.Printf("%s%s  %s\n", indent, c.Out.Name(path.Base(e.Path)), c.Out.Faint(Size(max(e.Size, 0))))
	}
}

// names lists the paths of an archive.
func (c *Listing) names(a *inspect.Archive, n *report.Listed) error {
	for _, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		if c.Totals {
			continue
		}
		p := e.Path
		if e.Kind == archive.Folder {
			p += "/"
		}
		c.Name(p)
	}
	return nil
}

// each counts the entries of an archive, and gives those to be listed to print.
func (c *Listing) each(a *inspect.Archive, n *report.Listed, print func(e *archive.Entry, link, member string) error) error {
	for i, e := range c.entries(a, &n.LeftOut) {
		n.Count(e)
		if c.Totals {
			continue
		}
		link := ""
		if e.Kind == archive.Hardlink {
			link = e.Link
		} else if e.Kind == archive.Symlink && !e.Encrypted {
			var err error
			if link, err = a.Link(i); err != nil {
				return err
			}
		}
		if err := print(e, link, a.Member(i)); err != nil {
			return err
		}
	}
	return nil
}

// lines prints JSON.
func (c *Listing) lines(a *inspect.Archive, n *report.Listed) error {
	var line []byte
	err := c.each(a, n, func(e *archive.Entry, link, member string) error {
		line = report.AppendEntry(line[:0], a.Path, member, e, link, isUnsafe(e, link))
		_, err := c.Out.Write(line)
		return err
	})
	if err == nil {
		c.Event(n)
	}
	return err
}

func (c *Listing) csvTitles() {
	titles := "archive,path,type,size,packed,modified,mode,method,crc32,encrypted,link,unsafe"
	if c.Totals {
		titles = "archive,files,size,packed"
	}
	c.Out.Printf("%s\n", titles)
}

func (c *Listing) csv(a *inspect.Archive, n *report.Listed) error {
	w := csv.NewWriter(c.Out)
	err := c.each(a, n, func(e *archive.Entry, link, _ string) error {
		f := report.FieldsOf(e)
		return w.Write([]string{a.Path, e.Path, e.Kind.String(), csvSize(e.Size), csvSize(e.Packed), string(f.Modified),
			string(f.Mode), e.Method, string(f.CRC32), strconv.FormatBool(e.Encrypted), link, strconv.FormatBool(isUnsafe(e, link))})
	})
	if err != nil {
		return err
	}
	if c.Totals {
		if err := w.Write([]string{a.Path, fmt.Sprint(n.Files), fmt.Sprint(n.Size), csvPacked(n)}); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func csvPacked(n *report.Listed) string {
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
