package show

import (
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/report"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// Extraction shows what becomes of archives that are unpacked, and in the end what it comes
// to.
type Extraction struct {
	*Output
	DryRun    bool
	Streaming bool // standard output holds the data itself
	Nested    bool
	Shared    bool // all go into one folder
	Started   time.Time

	Totals   report.Totals
	Failures report.Failures   // of archives, and of what becomes of sources
	archives []unpackedArchive // the first few
	roots    []string          // where archives went, in the order of the first
	went     map[string]int    // how many archives went to each
	sources  disposals
}

// Event takes note of what happened, and shows it.
func (r *Extraction) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Unpacked:
		r.archive(e)
	case *report.Disposal:
		if r.sources.add(e); e.Err != nil {
			r.failed(e.Err)
		}
	}
	if _, notice := e.(report.Notice); notice || !r.Streaming {
		r.Output.Event(e)
	}
}

func (r *Extraction) archive(o *report.Unpacked) {
	r.Totals.Add(o)
	if o.Err != nil {
		r.failed(o.Err)
	}
	for _, lost := range o.Lost {
		r.failed(lost.Err)
	}
	if !r.Streaming {
		r.print(o)
	}
	if o.Err == nil && !o.Done {
		r.goneTo(o)
		if len(r.archives) <= listed {
			short := unpackedArchive{Unpacked: *o, members: tallyMembers(o)}
			short.Placed = nil
			r.archives = append(r.archives, short)
		}
	}
}

// goneTo counts an archive where it went.
func (r *Extraction) goneTo(o *report.Unpacked) {
	if o.Entries == o.LeftOut.LeftOut() && o.Entries > 0 || o.Entries == 0 && r.Nested {
		return // nothing was kept, or only archives were inside
	}
	root := o.Target
	if !r.Shared {
		root = filepath.Dir(root)
	}
	if r.went == nil {
		r.went = map[string]int{}
	}
	if r.went[root]++; r.went[root] == 1 {
		r.roots = append(r.roots, root)
	}
}

// unpackedArchive is what is kept of an outcome for the summary.
type unpackedArchive struct {
	report.Unpacked
	members []memberTally // of a series
}

// memberTally counts what came from one member of a series.
type memberTally struct {
	name    string
	actions map[stage.Action]int
}

func tallyMembers(o *report.Unpacked) []memberTally {
	var tallies []memberTally
	for _, p := range o.Placed {
		if p.Member == "" || p.Kind == archive.Folder {
			continue
		}
		if n := len(tallies); n == 0 || tallies[n-1].name != p.Member {
			tallies = append(tallies, memberTally{p.Member, map[stage.Action]int{}})
		}
		tallies[len(tallies)-1].actions[p.Action]++
	}
	return tallies
}

// failed shows a failure. On a terminal, the first few of many are enough to
// see what is wrong; a log gets them all.
func (r *Extraction) failed(err error) {
	r.Failures.Add(err)
	if r.Err.Terminal && !r.Verbose && r.Failures.Count() > listed {
		return
	}
	r.Problem(err)
}

func (r *Extraction) print(o *report.Unpacked) {
	switch r.Form {
	case JSON, CSV:
	case Names:
		for _, p := range o.Placed {
			if p.Kind != archive.Folder && p.Action != stage.Skipped && p.Action != stage.Lost {
				r.Name(p.Path)
			}
		}
	default:
		switch {
		case r.Quiet || o.Err != nil || !r.DryRun && !r.Verbose:
		case o.Done:
			r.Out.Printf("%s: done before\n", r.Out.Name(o.Archive))
		default:
			r.listPlaced(o)
		}
	}
}

// listPlaced prints every path of an archive and what becomes of it.
func (r *Extraction) listPlaced(o *report.Unpacked) {
	r.Out.Printf("%s → %s%s\n", r.Out.Strong(r.Out.Name(o.Archive)), r.Out.Name(o.Target), r.Out.Faint(misnamed(o.Archive, o.Format)))
	for _, remark := range o.Remarks {
		r.Out.Printf("  %s\n", r.Out.Faint(r.Out.Name(r.Out.Say.With(remark.Text, remark.Hint))))
	}
	if o.Passwords != nil {
		r.Out.Printf("  %s\n", r.Out.Faint(opened(o.Passwords)))
	}
	shown := func(path string) string { return r.Out.Name(storage.Below(o.Target, path)) }
	path := Column{Short: true}
	for _, p := range o.Placed {
		path.Width = max(path.Width, Width(shown(p.Path)))
	}
	for _, removed := range o.Removed {
		path.Width = max(path.Width, Width(shown(removed)))
	}
	t := NewTable(r.Out, Column{Width: len("  replaced")}, Column{Width: 9, Right: true}, path, Column{Text: true})
	for _, p := range o.Placed {
		if p.Kind == archive.Folder {
			continue
		}
		size, from := "", ""
		if p.Kind == archive.File {
			size = Size(p.Size)
		}
		if p.Member != "" {
			from = "from " + r.Out.Name(p.Member)
		}
		if p.Spelt {
			from = strings.TrimSpace(from + "  for " + r.Out.Name(p.Entry))
		}
		if from != "" {
			from = r.Out.Faint(from)
		}
		t.Row("  "+verb(p.Action, r.DryRun), size, shown(p.Path), from)
	}
	for _, path := range o.Removed {
		t.Row("  "+map[bool]string{true: "remove", false: "removed"}[r.DryRun], "", shown(path), "")
	}
}

// misnamed is a remark about an archive whose name says another format.
func misnamed(name, content string) string {
	if !format.Misnamed(storage.Base(name), content) {
		return ""
	}
	return "  (" + content + ", whatever its name says)"
}

// opened says which of the passwords opened an archive; none is ever shown.
func opened(passwords []int) string {
	numbers := make([]string, len(passwords))
	for i, n := range passwords {
		numbers[i] = Number(n)
	}
	return "opened with password " + strings.Join(numbers, ", ") + " of those given"
}

// verb says what becomes, or became, of an entry.
func verb(a stage.Action, dryRun bool) string {
	if dryRun {
		return map[stage.Action]string{stage.Added: "add", stage.Same: "same", stage.Skipped: "skip", stage.Replaced: "replace"}[a]
	}
	return a.String()
}

// A summary lists this many archives; more go into one line for each root.
const listed = 12

// Finish says what all of it comes to.
func (r *Extraction) Finish() {
	if n := &r.Totals; !r.Streaming {
		r.Output.Event(&report.Ended{Archives: n.Archives - n.Failed - n.Done, Done: n.Done, Failed: n.Failed, Files: n.Placed, Bytes: n.Bytes,
			LeftOut: n.LeftOut, DryRun: r.DryRun, Took: report.Since(r.Started)})
	}
	if r.Quiet {
		return
	}
	s, t := r.Summary(), &r.Totals
	if r.Streaming {
		s = r.Err
	} else if r.Form == People && !r.Verbose && !r.DryRun {
		if len(r.archives) <= listed {
			r.tableOfArchives(s)
		} else {
			r.linesOfRoots(s)
		}
	}
	r.sources.tell(s, r.DryRun)
	r.tellMore(s)
	done, wrote := "unpacked", "written"
	if r.DryRun {
		done, wrote = "would be unpacked", "would be written"
	}
	files := t.Placed
	if r.Streaming {
		files = t.Kept
	}
	said := []string{Count(files, "file"), Size(t.Bytes) + " " + wrote}
	for _, also := range []struct {
		n    int
		what string
	}{{t.Done, "done before"}, {t.Same, "already there"}, {t.Skipped, "skipped"}} {
		if also.n > 0 {
			said = append(said, Number(also.n)+" "+also.what)
		}
	}
	archives := Count(t.Archives-t.Failed-t.Done, "archive")
	if r.nothing() {
		s.Printf("nothing selected in %s%s; %s\n", s.Strong(archives), left(&t.LeftOut), Took(time.Since(r.Started)))
	} else {
		s.Printf("%s %s: %s%s; %s\n", s.Strong(archives), done, strings.Join(said, ", "), left(&t.LeftOut), Took(time.Since(r.Started)))
	}
	r.tellFailures(s)
	s.Flush()
}

// nothing reports whether the archives are fine, and all that is in them was left out.
func (r *Extraction) nothing() bool {
	t := &r.Totals
	return t.Entries > 0 && t.Entries == t.LeftOut.LeftOut() && t.Failed+t.Done == 0
}

// left says what was left out, after something else; empty: nothing.
func left(t *choose.Tally) string {
	if t.LeftOut() == 0 {
		return ""
	}
	return "; " + t.String()
}

// tellMore says what else there is to know.
func (r *Extraction) tellMore(s *Screen) {
	t := &r.Totals
	if n := len(t.Empty); n > 0 && !r.nothing() {
		s.Printf("nothing was kept of %s: %s\n", Count(n, "archive"), s.Name(parts.Shorten(t.Empty)))
	}
	tellRemarks(s, t.Remarks)
	if t.Spelt > 0 {
		shown := "; -v shows which"
		if r.Verbose || r.DryRun {
			shown = ""
		}
		s.Printf("%s renamed, percent-encoded, so that every system can hold the names%s\n", Count(t.Spelt, "file"), shown)
	}
	if t.SetID > 0 {
		s.Printf("set-user-ID and set-group-ID dropped: %s\n", Count(t.SetID, "file"))
	}
	if t.Modes > 0 {
		s.Printf("already there with other permissions, which stay: %s\n", Count(t.Modes, "file"))
	}
}

// tellFailures says what is missing.
func (r *Extraction) tellFailures(s *Screen) {
	t := &r.Totals
	if t.Lost > 0 {
		sums := "what was unpacked was checked against its checksums"
		if t.Unsummed > 0 {
			sums = Count(t.Unsummed, "file") + " of what was unpacked had no checksum to be checked against"
		}
		s.Printf("%s; %s\n", s.Bad(Number(t.Lost)+" lost, reported above"), sums)
	}
	switch bad := s.Bad(Count(t.Failed, "archive") + " failed"); {
	case t.Failed > listed && r.Err.Terminal && !r.Verbose:
		s.Printf("%s, the first %d reported above; -v shows all\n", bad, listed)
	case t.Failed > 0:
		s.Printf("%s, reported above\n", bad)
	}
}

// tableOfArchives prints what came from each archive and where it went.
func (r *Extraction) tableOfArchives(s *Screen) {
	if len(r.archives) == 0 {
		return
	}
	root := r.oneRoot()
	if root != "" {
		s.Printf("%s\n", s.Faint("into "+s.Name(root)))
	}
	went := func(o *report.Unpacked) string {
		switch below := storage.Below(root, o.Target); {
		case o.Entries > 0 && o.Entries == o.LeftOut.LeftOut():
			return s.Faint("nothing was kept")
		case root == "":
			return s.Name(o.Target)
		default:
			return s.Name(below)
		}
	}
	name := Column{Title: "archive", Short: true}
	into := Column{Title: "went to", Short: true}
	for i := range r.archives {
		o := &r.archives[i].Unpacked
		name.Width = max(name.Width, Width(r.shortName(s, o)))
		into.Width = max(into.Width, Width(went(o)))
	}
	t := NewTable(s, name, into, Column{Title: "files", Width: 7, Right: true},
		Column{Title: "written", Width: 9, Right: true}, Column{Title: "left out", Right: true})
	for i := range r.archives {
		o := &r.archives[i]
		t.Row(r.shortName(s, &o.Unpacked), went(&o.Unpacked), Number(o.Entries-o.LeftOut.LeftOut()-o.LostEntries()), Size(o.Bytes), Number(o.LeftOut.LeftOut()))
	}
	for i := range r.archives {
		if o := &r.archives[i]; o.members != nil {
			s.Printf("%s came from:\n", s.Name(storage.Base(o.Source.Path)))
			r.tellMembers(s, o.members)
		}
	}
}

// oneRoot is the destination that all archives went to; empty: there are several.
func (r *Extraction) oneRoot() string {
	root := r.archives[0].Root
	for i := range r.archives {
		if r.archives[i].Root != root {
			return ""
		}
	}
	return root
}

// tellMembers says what came from which member of a series; neighbours of which
// the same is to be said share a line.
func (r *Extraction) tellMembers(s *Screen, members []memberTally) {
	for i := 0; i < len(members); {
		text := members[i].String()
		last := i
		for last+1 < len(members) && members[last+1].String() == text {
			last++
		}
		name, each := members[i].name, ""
		if last > i {
			name, each = name+" … "+members[last].name, " from each"
		}
		s.Printf("  %s: %s%s\n", s.Name(name), text, each)
		i = last + 1
	}
}

func (m memberTally) String() string {
	text := Count(m.actions[stage.Added]+m.actions[stage.Replaced], "file")
	if n := m.actions[stage.Same]; n > 0 {
		text += ", " + Number(n) + " already there"
	}
	if n := m.actions[stage.Skipped]; n > 0 {
		text += ", " + Number(n) + " skipped"
	}
	return text
}

// shortName is an archive's name without the folder that it lies in.
func (r *Extraction) shortName(s *Screen, o *report.Unpacked) string {
	name := o.Source.Name()
	switch inside := o.Archive[len(o.Source.Path):]; {
	case inside != "":
		name += inside
	case o.Source.Set() != nil:
		name += " (" + Count(len(o.Source.Set().Parts), "part") + ")"
	case o.Source.Members() != nil:
		name = storage.Base(o.Source.Path) + " (" + Count(len(o.Source.Members()), "archive") + ")"
	}
	return s.Name(name)
}

// linesOfRoots prints where many archives went.
func (r *Extraction) linesOfRoots(s *Screen) {
	how := ""
	if !r.Shared {
		how = ", each in its own folder"
	}
	for _, root := range r.roots[:min(len(r.roots), listed)] {
		s.Printf("%s → %s%s\n", Count(r.went[root], "archive"), s.Name(root), how)
	}
	if more := len(r.roots) - listed; more > 0 {
		s.Printf("… and %s more; -v lists every path\n", Count(more, "folder"))
	}
}
