package cli

import (
	"path/filepath"
	"strings"
	"time"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/extract"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/stage"
)

// extractReport prints what happens, and in the end what it comes to.
type extractReport struct {
	*extractCommand
	started  time.Time
	totals   report.Totals
	failures report.Failures   // of archives, and of what becomes of sources
	archives []unpackedArchive // the first few
	roots    []string          // where archives went, in the order of the first
	went     map[string]int    // how many archives went to each
	removed  int
	stay     int            // that lie where they would be moved
	movedTo  []string       // folders that sources were moved to, in the order of the first
	moved    map[string]int // how many to each
	kept     []string       // sources that were kept, with the reason
}

// event takes note of what happened, and shows it.
func (r *extractReport) event(e report.Event) {
	switch e := e.(type) {
	case report.Notice:
		if !r.quiet {
			r.warn(string(e))
		}
		return
	case *report.Unpacked:
		r.archive(e)
	case *report.Disposal:
		r.source(e)
	}
	if r.as.Value() == asJSON && !r.streaming {
		r.json(e)
	}
}

func (r *extractReport) archive(o *report.Unpacked) {
	r.totals.Add(o)
	if o.Err != nil {
		r.failed(o.Err)
	}
	for _, lost := range o.Lost {
		r.failed(lost.Err)
	}
	if !r.streaming {
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
func (r *extractReport) goneTo(o *report.Unpacked) {
	if o.Entries == o.LeftOut.LeftOut() && o.Entries > 0 || o.Entries == 0 && r.nested {
		return // nothing was kept, or only archives were inside
	}
	root := o.Target
	if r.layout.Value() != place.Shared {
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
func (r *extractReport) failed(err error) {
	r.failures.Add(err)
	if r.err.Terminal && !r.verbose && r.failures.Count() > listed {
		return
	}
	r.problem(err)
}

func (r *extractReport) print(o *report.Unpacked) {
	switch r.as.Value() {
	case asJSON:
	case asNames:
		for _, p := range o.Placed {
			if p.Kind != archive.Folder && p.Action != stage.Skipped && p.Action != stage.Lost {
				r.name(r.out, p.Path)
			}
		}
	default:
		switch {
		case r.quiet || o.Err != nil || !r.dryRun && !r.verbose:
		case o.Done:
			r.out.Printf("%s: done before\n", r.out.Name(o.Archive))
		default:
			r.listPlaced(o)
		}
	}
}

// source takes note of what became of a source.
func (r *extractReport) source(d *report.Disposal) {
	switch after := d.After(); {
	case d.Err != nil:
		r.failed(d.Err)
	case d.Kept == extract.LiesThere:
		r.stay++
	case d.Kept != "":
		r.kept = append(r.kept, r.out.Name(d.Source)+": "+d.Kept)
	case after == "moved":
		to := filepath.Dir(d.To)
		if r.moved == nil {
			r.moved = map[string]int{}
		}
		if r.moved[to]++; r.moved[to] == 1 {
			r.movedTo = append(r.movedTo, to)
		}
	default:
		r.removed++
	}
}

// listPlaced prints every path of an archive and what becomes of it.
func (r *extractReport) listPlaced(o *report.Unpacked) {
	r.out.Printf("%s → %s%s\n", r.out.Strong(r.out.Name(o.Archive)), r.out.Name(o.Target), r.out.Faint(misnamed(o.Archive, o.Format)))
	for _, remark := range o.Remarks {
		r.out.Printf("  %s\n", r.out.Faint(r.out.Name(r.out.Say.With(remark.Text, remark.Hint))))
	}
	shown := func(path string) string { return r.out.Name(below(o.Target, path)) }
	path := show.Column{Short: true}
	for _, p := range o.Placed {
		path.Width = max(path.Width, show.Width(shown(p.Path)))
	}
	for _, removed := range o.Removed {
		path.Width = max(path.Width, show.Width(shown(removed)))
	}
	t := show.NewTable(r.out, show.Column{Width: len("  replaced")}, show.Column{Width: 9, Right: true}, path, show.Column{Text: true})
	for _, p := range o.Placed {
		if p.Kind == archive.Folder {
			continue
		}
		size, from := "", ""
		if p.Kind == archive.File {
			size = show.Size(p.Size)
		}
		if p.Member != "" {
			from = "from " + r.out.Name(p.Member)
		}
		if p.Spelt {
			from = strings.TrimSpace(from + "  for " + r.out.Name(p.Entry))
		}
		if from != "" {
			from = r.out.Faint(from)
		}
		t.Row("  "+verb(p.Action, r.dryRun), size, shown(p.Path), from)
	}
	for _, path := range o.Removed {
		t.Row("  "+map[bool]string{true: "remove", false: "removed"}[r.dryRun], "", shown(path), "")
	}
}

// misnamed is a remark about an archive whose name says another format.
func misnamed(name, content string) string {
	if !format.Misnamed(filepath.Base(name), content) {
		return ""
	}
	return "  (" + content + ", whatever its name says)"
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

func (r *extractReport) finish() {
	if r.quiet {
		return
	}
	s, t := r.summary(r.streams), &r.totals
	if r.streaming {
		s = r.err
	} else if r.as.Value() == asText && !r.verbose && !r.dryRun {
		if len(r.archives) <= listed {
			r.tableOfArchives(s)
		} else {
			r.linesOfRoots(s)
		}
	}
	r.tellSources(s)
	if n := len(t.Empty); n > 0 {
		s.Printf("nothing was kept of %s: %s\n", show.Count(n, "archive"), s.Name(parts.Shorten(t.Empty)))
	}
	if n := len(t.Assumed); n > 0 {
		s.Printf("%s in %s: nothing says in which encoding names are; %s\n", s.Bad("names were guessed"), s.Name(parts.Shorten(t.Assumed)), say(fault.NameEncoding))
	}
	if t.Spelt > 0 {
		shown := "; -v shows which"
		if r.verbose || r.dryRun {
			shown = ""
		}
		s.Printf("%s got names that every system can hold, percent-encoded%s\n", show.Count(t.Spelt, "file"), shown)
	}
	if t.SetID > 0 {
		s.Printf("set-user-ID and set-group-ID dropped: %s\n", show.Count(t.SetID, "file"))
	}
	if t.Modes > 0 {
		s.Printf("already there with other permissions, which stay: %s\n", show.Count(t.Modes, "file"))
	}
	done, wrote := "unpacked", "written"
	if r.dryRun {
		done, wrote = "would be unpacked", "would be written"
	}
	files := t.Placed
	if r.streaming {
		files = t.Kept
	}
	parts := []string{show.Count(files, "file"), show.Size(t.Bytes) + " " + wrote}
	for _, also := range []struct {
		n    int
		what string
	}{{t.Done, "done before"}, {t.Same, "already there"}, {t.Skipped, "skipped"}} {
		if also.n > 0 {
			parts = append(parts, show.Number(also.n)+" "+also.what)
		}
	}
	s.Printf("%s %s: %s; %s; %s\n", s.Strong(show.Count(t.Archives-t.Failed-t.Done, "archive")), done,
		strings.Join(parts, ", "), t.LeftOut.String(), show.Took(time.Since(r.started)))
	if t.Lost > 0 {
		sums := "what was unpacked was checked against its checksums"
		if t.Unsummed > 0 {
			sums = show.Count(t.Unsummed, "file") + " of what was unpacked had no checksum to be checked against"
		}
		s.Printf("%s; %s\n", s.Bad(show.Number(t.Lost)+" lost, reported above"), sums)
	}
	switch bad := s.Bad(show.Count(t.Failed, "archive") + " failed"); {
	case t.Failed > listed && r.err.Terminal && !r.verbose:
		s.Printf("%s, the first %d reported above; -v shows all\n", bad, listed)
	case t.Failed > 0:
		s.Printf("%s, reported above\n", bad)
	}
	s.Flush()
}

// tellSources says what became of the sources.
func (r *extractReport) tellSources(s *show.Screen) {
	for _, kept := range r.kept[:min(len(r.kept), listed)] {
		s.Printf("kept %s\n", kept)
	}
	if more := len(r.kept) - listed; more > 0 {
		s.Printf("kept %s (--as json says why)\n", show.Count(more, "more archive"))
	}
	would := ""
	if r.dryRun {
		would = "would be "
	}
	if r.stay > 0 {
		s.Printf("kept %s: already where they would be moved\n", show.Count(r.stay, "archive"))
	}
	if r.removed > 0 {
		s.Printf("%s %sremoved\n", show.Count(r.removed, "archive"), would)
	}
	for _, folder := range r.movedTo {
		s.Printf("%s %smoved to %s\n", show.Count(r.moved[folder], "archive"), would, s.Name(folder))
	}
}

// tableOfArchives prints what came from each archive and where it went.
func (r *extractReport) tableOfArchives(s *show.Screen) {
	if len(r.archives) == 0 {
		return
	}
	name := show.Column{Title: "archive", Short: true}
	into := show.Column{Title: "went to", Short: true}
	for i := range r.archives {
		o := &r.archives[i]
		name.Width = max(name.Width, show.Width(r.shortName(s, &o.Unpacked)))
		into.Width = max(into.Width, show.Width(s.Name(o.Target)))
	}
	t := show.NewTable(s, name, into, show.Column{Title: "files", Width: 7, Right: true},
		show.Column{Title: "written", Width: 9, Right: true}, show.Column{Title: "left out", Right: true})
	for i := range r.archives {
		o := &r.archives[i]
		into := s.Name(o.Target)
		if o.Entries > 0 && o.Entries == o.LeftOut.LeftOut() {
			into = s.Faint("nothing was kept")
		}
		t.Row(r.shortName(s, &o.Unpacked), into, show.Number(o.Entries-o.LeftOut.LeftOut()-o.LostEntries()), show.Size(o.Bytes), show.Number(o.LeftOut.LeftOut()))
	}
	for i := range r.archives {
		if o := &r.archives[i]; o.members != nil {
			s.Printf("%s came from:\n", s.Name(filepath.Base(o.Source.Path)))
			r.tellMembers(s, o.members)
		}
	}
}

// tellMembers says what came from which member of a series; neighbours of which
// the same is to be said share a line.
func (r *extractReport) tellMembers(s *show.Screen, members []memberTally) {
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
	text := show.Count(m.actions[stage.Added]+m.actions[stage.Replaced], "file")
	if n := m.actions[stage.Same]; n > 0 {
		text += ", " + show.Number(n) + " already there"
	}
	if n := m.actions[stage.Skipped]; n > 0 {
		text += ", " + show.Number(n) + " skipped"
	}
	return text
}

// shortName is an archive's name without the folder that it lies in.
func (r *extractReport) shortName(s *show.Screen, o *report.Unpacked) string {
	name := o.Source.Name()
	switch inside := o.Archive[len(o.Source.Path):]; {
	case inside != "":
		name += inside
	case o.Source.Set != nil:
		name += " (" + show.Count(len(o.Source.Set.Parts), "part") + ")"
	case o.Source.Members != nil:
		name = filepath.Base(o.Source.Path) + " (" + show.Count(len(o.Source.Members), "archive") + ")"
	}
	return s.Name(name)
}

// linesOfRoots prints where many archives went.
func (r *extractReport) linesOfRoots(s *show.Screen) {
	how := ""
	if r.layout.Value() != place.Shared {
		how = ", each in its own folder"
	}
	for _, root := range r.roots[:min(len(r.roots), listed)] {
		s.Printf("%s → %s%s\n", show.Count(r.went[root], "archive"), s.Name(root), how)
	}
	if more := len(r.roots) - listed; more > 0 {
		s.Printf("… and %s more; -v lists every path\n", show.Count(more, "folder"))
	}
}
