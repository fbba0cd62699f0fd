package cli

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"time"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/extract"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/place"
	"widecrate/core/stage"
)

// extractReport prints outcomes, and in the end what they come to.
type extractReport struct {
	*extractCommand
	json     *json.Encoder
	started  time.Time
	totals   extract.Totals
	failures extract.Failures // of archives, and of what becomes of sources
	archives []unpackedArchive
	lost     int
	unsummed int // files written without a checksum of their own
	removed  int
	moved    int
	kept     []string // sources that were kept, with the reason
}

func (r *extractReport) archive(o *extract.Outcome) {
	r.totals.Add(o)
	if o.Err != nil {
		r.failed(o.Err)
	}
	for _, lost := range o.Lost {
		r.lost++
		r.failed(lost.Err)
	}
	for _, p := range o.Placed {
		if p.Kind == archive.File && !p.Summed && (p.Action == stage.Added || p.Action == stage.Replaced) {
			r.unsummed++
		}
	}
	if !r.streaming {
		r.print(o)
	}
	if o.Err == nil {
		short := unpackedArchive{Outcome: *o, members: tallyMembers(o)}
		short.Placed = nil
		r.archives = append(r.archives, short)
	}
}

// unpackedArchive is what is kept of an outcome for the summary.
type unpackedArchive struct {
	extract.Outcome
	members []memberTally // of a series
}

// memberTally counts what came from one member of a series.
type memberTally struct {
	name    string
	actions map[stage.Action]int
}

func tallyMembers(o *extract.Outcome) []memberTally {
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

func (r *extractReport) print(o *extract.Outcome) {
	switch r.as.Value() {
	case asJSON:
		r.printJSON(o)
	case asNames:
		for _, p := range o.Placed {
			if p.Kind != archive.Folder && p.Action != stage.Skipped && p.Action != stage.Lost {
				r.name(r.out, p.Path)
			}
		}
	default:
		if o.Err == nil && (r.dryRun || r.verbose) && !r.quiet {
			r.listPlaced(o)
		}
	}
}

// written is a line of JSON for each file and link that was kept.
type written struct {
	Kind    string `json:"kind"`
	Archive string `json:"archive"`
	Entry   string `json:"entry"`
	Path    string `json:"path"`
	Type    string `json:"type"`
	Size    int64  `json:"size"`
	Action  string `json:"action"`
	Summed  bool   `json:"summed"`
	Member  string `json:"member,omitempty"`
}

// lostLine is a line of JSON for what could not be had of a damaged archive.
type lostLine struct {
	Kind    string   `json:"kind"`
	Archive string   `json:"archive"`
	Entry   string   `json:"entry,omitempty"`
	Failure *failure `json:"failure"`
}

// unpacked is a line of JSON for each archive.
type unpacked struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Into    string         `json:"into"`
	Entries int            `json:"entries"`
	LeftOut map[string]int `json:"left_out,omitempty"`
	Bytes   int64          `json:"bytes"`
	Seconds float64        `json:"seconds"`
	DryRun  bool           `json:"dry_run,omitempty"`
	Failure *failure       `json:"failure,omitempty"`
}

// disposed is a line of JSON for each source that --after is about.
type disposed struct {
	Kind    string   `json:"kind"`
	Archive string   `json:"archive"`
	After   string   `json:"after"`
	To      string   `json:"to,omitempty"`
	Why     string   `json:"why,omitempty"`
	DryRun  bool     `json:"dry_run,omitempty"`
	Failure *failure `json:"failure,omitempty"`
}

// failure is the JSON of an error.
type failure struct {
	Kind  string `json:"kind"`
	Code  int    `json:"code"`
	Where string `json:"where"`
	Why   string `json:"why"`
	Do    string `json:"do,omitempty"`
}

func failureOf(err error) *failure {
	if err == nil {
		return nil
	}
	f := &failure{Kind: fault.Of(err).Error(), Code: exitCode(err), Why: err.Error()}
	if e, ok := errors.AsType[*fault.Error](err); ok {
		f.Where, f.Why, f.Do = e.Where, e.Err.Error(), e.Do
	}
	return f
}

func (r *extractReport) printJSON(o *extract.Outcome) {
	for _, p := range o.Placed {
		if p.Kind != archive.Folder {
			r.line(written{"written", o.Archive, p.Entry, p.Path, p.Kind.String(), p.Size, p.Action.String(), p.Summed, p.Member})
		}
	}
	for _, lost := range o.Lost {
		r.line(lostLine{"lost", o.Archive, lost.Entry, failureOf(lost.Err)})
	}
	r.line(unpacked{Kind: "archive", Archive: o.Archive, Into: o.Target, Entries: o.Entries,
		LeftOut: byRule(o.LeftOut), Bytes: o.Bytes, Seconds: o.Took.Seconds(), DryRun: r.dryRun, Failure: failureOf(o.Err)})
}

// line prints a line of JSON. What it cannot write, the flush at the end tells.
func (r *extractReport) line(v any) { _ = r.json.Encode(v) }

// source takes note of what became of a source.
func (r *extractReport) source(d *extract.Disposal) {
	after := "kept"
	switch {
	case d.Err != nil:
		r.failed(d.Err)
	case d.Kept != "":
		r.kept = append(r.kept, r.out.Name(d.Source)+": "+d.Kept)
	case d.To != "":
		after = "moved"
		r.moved++
	default:
		after = "removed"
		r.removed++
	}
	if r.as.Value() == asJSON {
		r.line(disposed{"source", d.Source, after, d.To, d.Kept, r.dryRun, failureOf(d.Err)})
	}
}

// listPlaced prints every path of an archive and what becomes of it.
func (r *extractReport) listPlaced(o *extract.Outcome) {
	r.out.Printf("%s → %s%s\n", r.out.Strong(r.out.Name(o.Archive)), r.out.Name(o.Target), r.out.Faint(misnamed(o.Archive, o.Format)))
	for _, text := range o.Remarks {
		r.out.Printf("  %s\n", r.out.Faint(r.out.Name(text)))
	}
	for _, p := range o.Placed {
		size := ""
		if p.Kind == archive.File {
			size = show.Size(p.Size)
		}
		from := ""
		if p.Member != "" {
			from = r.out.Faint("  from " + r.out.Name(p.Member))
		}
		if p.Kind != archive.Folder {
			r.out.Printf("  %-8s %9s  %s%s\n", verb(p.Action, r.dryRun), size, r.out.Name(p.Path), from)
		}
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
	done, wrote := "unpacked", "written"
	if r.dryRun {
		done, wrote = "would be unpacked", "would be written"
	}
	files := t.Placed
	if r.streaming {
		files = t.Kept
	}
	s.Printf("%s %s: %s, %s %s", s.Strong(show.Count(t.Archives-t.Failed, "archive")), done,
		show.Count(files, "file"), show.Size(t.Bytes), wrote)
	if t.Same > 0 {
		s.Printf(", %s already there", show.Number(t.Same))
	}
	if t.Skipped > 0 {
		s.Printf(", %s skipped", show.Number(t.Skipped))
	}
	s.Printf("; %s; %s\n", tellLeftOut(t.LeftOut), show.Took(time.Since(r.started)))
	if r.lost > 0 {
		sums := "what was unpacked was held against its checksums"
		if r.unsummed > 0 {
			sums = show.Count(r.unsummed, "file") + " of what was unpacked had no checksum to be held against"
		}
		s.Printf("%s; %s\n", s.Bad(show.Number(r.lost)+" lost, told above"), sums)
	}
	switch bad := s.Bad(show.Count(t.Failed, "archive") + " failed"); {
	case t.Failed > listed && r.err.Terminal && !r.verbose:
		s.Printf("%s, the first %d told above; -v tells all\n", bad, listed)
	case t.Failed > 0:
		s.Printf("%s, told above\n", bad)
	}
	s.Flush()
}

// tellSources says what became of the sources.
func (r *extractReport) tellSources(s *show.Screen) {
	for _, kept := range r.kept[:min(len(r.kept), listed)] {
		s.Printf("kept %s\n", kept)
	}
	if more := len(r.kept) - listed; more > 0 {
		s.Printf("kept %s more (--as json tells why)\n", show.Count(more, "archive"))
	}
	would := ""
	if r.dryRun {
		would = "would be "
	}
	if r.removed > 0 {
		s.Printf("%s %sremoved\n", show.Count(r.removed, "archive"), would)
	}
	if r.moved > 0 {
		s.Printf("%s %smoved to %s\n", show.Count(r.moved, "archive"), would, s.Name(r.after.Folder))
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
		name.Width = max(name.Width, show.Width(r.shortName(s, &o.Outcome)))
		into.Width = max(into.Width, show.Width(s.Name(o.Target)))
	}
	t := show.NewTable(s, name, into, show.Column{Title: "files", Width: 7, Right: true},
		show.Column{Title: "written", Width: 9, Right: true}, show.Column{Title: "left out", Right: true})
	for i := range r.archives {
		o := &r.archives[i]
		t.Row(r.shortName(s, &o.Outcome), s.Name(o.Target), show.Number(o.Entries-o.LeftOut.LeftOut()-o.LostEntries()), show.Size(o.Bytes), show.Number(o.LeftOut.LeftOut()))
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
func (r *extractReport) shortName(s *show.Screen, o *extract.Outcome) string {
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
	counts := map[string]int{}
	var roots []string
	for i := range r.archives {
		o := &r.archives[i]
		if o.Entries == o.LeftOut.LeftOut() && o.Entries > 0 || o.Entries == 0 && r.nested {
			continue // nothing was kept, or only archives were inside
		}
		root := o.Target
		if r.layout.Value() != place.Shared {
			root = filepath.Dir(root)
		}
		if counts[root] == 0 {
			roots = append(roots, root)
		}
		counts[root]++
	}
	how := ""
	if r.layout.Value() != place.Shared {
		how = ", each in its own folder"
	}
	for _, root := range roots[:min(len(roots), listed)] {
		s.Printf("%s → %s%s\n", show.Count(counts[root], "archive"), s.Name(root), how)
	}
	if more := len(roots) - listed; more > 0 {
		s.Printf("… and %s more; -v lists every path\n", show.Count(more, "folder"))
	}
}
