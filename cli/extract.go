package cli

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/extract"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

type extractCommand struct {
	*streams
	selectionOptions
	placementOptions
	outputOptions
	dryRun  bool
	workers int
}

func newExtract(s *streams) *cobra.Command {
	c := &extractCommand{streams: s}
	cmd := &cobra.Command{
		Use:   "extract SOURCE… [OPTION…]",
		Short: "Unpack many archives",
		Long: `extract unpacks archives: files, and folders for the archives in them. Each gets
a folder of its own, named after it, beside it or below --into; or all are
merged into one. An archive is put into place whole or not at all, and one that
fails does not stop the others.`,
		Example: `  widecrate extract readings --into landing --ext csv
  widecrate extract "corrections/osk bay [v1].zip" --into landing --dry-run
  widecrate extract readings --into pictures --layout shared --ext png`,
		Args: cobra.MinimumNArgs(1),
		RunE: c.run,
	}
	c.placementOptions.addTo(cmd)
	c.selectionOptions.addTo(cmd)
	cmd.Flags().BoolVar(&c.dryRun, "dry-run", false, "say what would be done, to the last path; write nothing")
	cmd.Flags().IntVar(&c.workers, "workers", runtime.NumCPU(), "how many work at once, a `NUMBER`")
	c.outputOptions.addTo(cmd, "text")
	return cmd
}

func (c *extractCommand) run(cmd *cobra.Command, args []string) error {
	if c.workers < 1 {
		return usage(cmd, errors.New("--workers must be at least 1"))
	}
	selection, err := c.selection()
	if err != nil {
		return err
	}
	started := time.Now()
	sources := source.Find(args)
	o := extract.Options{Sources: sources, Selection: selection, Placement: c.placement(),
		Clash: c.clash.Value(), Workers: c.workers, DryRun: c.dryRun}
	report := &extractReport{extractCommand: c, json: c.out.JSON()}
	if err := extract.Run(cmd.Context(), o, report.add); err != nil {
		return err
	}
	if len(sources) == 0 {
		if !c.quiet {
			c.summary(c.streams).Printf("No archive in %s: nothing to do.\n", c.out.Name(strings.Join(args, ", ")))
		}
		return nil
	}
	report.finish(time.Since(started))
	t := &report.totals
	switch {
	case t.Failed > 0:
		return reported{t.Err()}
	case t.Kept == 0 && !selection.All():
		return noMatch(t.LeftOut)
	}
	c.warnUnmatched(selection)
	return nil
}

// extractReport prints outcomes, and in the end what they come to.
type extractReport struct {
	*extractCommand
	json     *json.Encoder
	totals   extract.Totals
	archives []extract.Outcome // those that did not fail, without what they placed
}

func (r *extractReport) add(o *extract.Outcome) {
	r.totals.Add(o)
	if o.Err != nil {
		r.problem(o.Err)
	}
	switch r.as.Value() {
	case asJSON:
		r.addJSON(o)
	case asNames:
		for _, p := range o.Placed {
			if p.Kind != archive.Folder && p.Action != stage.Skipped {
				r.out.Printf("%s\n", r.out.Name(p.Path))
			}
		}
	case asText:
		if o.Err == nil && (r.dryRun || r.verbose) && !r.quiet {
			r.listPlaced(o)
		}
	}
	short := *o
	short.Placed = nil
	if o.Err == nil {
		r.archives = append(r.archives, short)
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

func (r *extractReport) addJSON(o *extract.Outcome) {
	for _, p := range o.Placed {
		if p.Kind != archive.Folder {
			r.line(written{"written", o.Source.Path, p.Entry, p.Path, p.Kind.String(), p.Size, p.Action.String()})
		}
	}
	line := unpacked{Kind: "archive", Archive: o.Source.Path, Into: o.Target, Entries: o.Entries,
		LeftOut: byRule(o.LeftOut), Bytes: o.Bytes, Seconds: o.Took.Seconds(), DryRun: r.dryRun, Failure: failureOf(o.Err)}
	r.line(line)
}

// line prints a line of JSON. What it cannot write, the flush at the end tells.
func (r *extractReport) line(v any) { _ = r.json.Encode(v) }

// listPlaced prints every path of an archive and what becomes of it.
func (r *extractReport) listPlaced(o *extract.Outcome) {
	r.out.Printf("%s → %s\n", r.out.Strong(r.out.Name(o.Source.Path)), r.out.Name(o.Target))
	for _, p := range o.Placed {
		size := ""
		if p.Kind == archive.File {
			size = show.Size(p.Size)
		}
		if p.Kind != archive.Folder {
			r.out.Printf("  %-8s %9s  %s\n", verb(p.Action, r.dryRun), size, r.out.Name(p.Path))
		}
	}
}

// verb says what becomes, or became, of an entry.
func verb(a stage.Action, dryRun bool) string {
	if dryRun {
		return map[stage.Action]string{stage.Added: "add", stage.Same: "same", stage.Skipped: "skip", stage.Replaced: "replace"}[a]
	}
	return a.String()
}

// A summary lists this many archives; more go into one line for each root.
const listedArchives = 12

func (r *extractReport) finish(took time.Duration) {
	if r.quiet {
		return
	}
	s, t := r.summary(r.streams), &r.totals
	if r.as.Value() == asText && !r.verbose && !r.dryRun {
		if len(r.archives) <= listedArchives {
			r.tableOfArchives(s)
		} else {
			r.linesOfRoots(s)
		}
	}
	done, wrote := "unpacked", "written"
	if r.dryRun {
		done, wrote = "would be unpacked", "would be written"
	}
	s.Printf("%s %s: %s, %s %s", s.Strong(show.Count(t.Archives-t.Failed, "archive")), done,
		show.Count(t.Placed, "file"), show.Size(t.Bytes), wrote)
	if t.Same > 0 {
		s.Printf(", %s already there", show.Number(t.Same))
	}
	if t.Skipped > 0 {
		s.Printf(", %s skipped", show.Number(t.Skipped))
	}
	s.Printf("; %s; %s\n", leftOut(t.LeftOut), show.Took(took))
	if t.Failed > 0 {
		s.Printf("%s, told above\n", s.Bad(show.Count(t.Failed, "archive")+" failed"))
	}
	s.Flush()
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
		name.Width = max(name.Width, show.Width(s.Name(o.Source.Name())))
		into.Width = max(into.Width, show.Width(s.Name(o.Target)))
	}
	t := show.NewTable(s, name, into, show.Column{Title: "files", Width: 7, Right: true},
		show.Column{Title: "written", Width: 9, Right: true}, show.Column{Title: "left out", Right: true})
	for i := range r.archives {
		o := &r.archives[i]
		t.Row(s.Name(o.Source.Name()), s.Name(o.Target), show.Number(o.Entries-o.LeftOut.LeftOut()), show.Size(o.Bytes), show.Number(o.LeftOut.LeftOut()))
	}
}

// linesOfRoots prints where many archives went.
func (r *extractReport) linesOfRoots(s *show.Screen) {
	counts := map[string]int{}
	var roots []string
	for i := range r.archives {
		root := r.archives[i].Target
		if r.layout.Value() == place.Own {
			root = filepath.Dir(root)
		}
		if counts[root] == 0 {
			roots = append(roots, root)
		}
		counts[root]++
	}
	for _, root := range roots[:min(len(roots), listedArchives)] {
		how := ""
		if r.layout.Value() == place.Own {
			how = ", each in its own folder"
		}
		s.Printf("%s → %s%s\n", show.Count(counts[root], "archive"), s.Name(root), how)
	}
	if more := len(roots) - listedArchives; more > 0 {
		s.Printf("… and %s more; -v lists every path\n", show.Count(more, "folder"))
	}
}
