package show

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"widecrate/core/receipt"
	"widecrate/core/report"
)

// Undoing shows what is taken back of earlier runs.
type Undoing struct {
	*Output
	Started time.Time
	DryRun  bool

	Failures                report.Failures
	archives, files, back   int
	failed, altered, before int
	partly                  int // archives
	missing, over, restored int
}

// Event takes note of what happened, and shows it.
func (u *Undoing) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Run:
		if u.Form == People && !u.Quiet && len(e.Roots) > 0 {
			u.Summary().Printf("run %d, %s of %s, wrote below %s\n", e.Number, e.Command, e.Started.Local().Format(time.DateTime), u.names(e.Roots))
		}
	case *report.Undone:
		u.undone(e)
	case *report.Returned:
		if u.note(e.Err); e.Err == nil {
			u.back++
			if u.Form == People && (u.DryRun || u.Verbose) && !u.Quiet {
				u.Out.Printf("%s → %s\n", u.Out.Name(e.From), u.Out.Name(e.Path))
			}
		}
	}
	u.Output.Event(e)
}

// names are paths, with commas.
func (u *Undoing) names(paths []string) string {
	const most = 8
	var names []string
	for _, path := range paths[:min(len(paths), most)] {
		names = append(names, u.Out.Name(path))
	}
	if more := len(paths) - most; more > 0 {
		names = append(names, Count(more, "other folder"))
	}
	return strings.Join(names, ", ")
}

// Runs lists the runs of a receipt.
func (u *Undoing) Runs(runs []*receipt.PastRun) {
	if u.Form == People && len(runs) == 0 {
		u.Summary().Printf("No run is in the receipt.\n")
		return
	}
	var table *Table
	if u.Form == People {
		table = NewTable(u.Out, Column{Title: "run", Width: 5, Right: true}, Column{Title: "started", Width: 19}, Column{Title: "command", Width: 8},
			Column{Title: "archives", Width: 8, Right: true}, Column{Title: "files", Width: 9, Right: true}, Column{Title: "taken back", Text: true})
	}
	for _, run := range runs {
		r := run.Report()
		switch number := strconv.Itoa(r.Number); {
		case table != nil:
			table.Row(number, r.Started.Local().Format(time.DateTime), r.Command, strconv.Itoa(r.Archives), strconv.Itoa(r.Files), takenBack(r))
		case u.Form == Names:
			u.Name(number)
		default:
			u.Output.Event(r)
		}
	}
}

// takenBack says how much of a run was.
func takenBack(r *report.Run) string {
	switch r.Undone {
	case 0:
		return ""
	case r.Archives:
		return "yes"
	}
	return fmt.Sprintf("%d of %d", r.Undone, r.Archives)
}

func (u *Undoing) undone(e *report.Undone) {
	u.files += len(e.Paths)
	u.missing += e.Missing
	u.before += e.There
	u.over += e.Over
	u.restored += e.Restored
	u.altered += len(e.Stays)
	for _, s := range e.Stays {
		u.note(s.Err)
	}
	if u.note(e.Err); e.Err != nil {
		u.failed++
		return
	}
	if e.Stays == nil {
		u.archives++
	} else {
		u.partly++
	}
	switch {
	case u.Form == Names:
		for _, path := range e.Paths {
			u.Name(path)
		}
	case u.Form == People && (u.DryRun || u.Verbose) && !u.Quiet:
		u.Out.Printf("%s\n", u.Out.Strong(u.Out.Name(e.Archive)))
		for _, path := range e.Paths {
			u.Out.Printf("  %s\n", u.Out.Name(path))
		}
	}
}

// note takes note of a failure, if it is one, and shows it.
func (u *Undoing) note(err error) {
	if err != nil {
		u.Failures.Add(err)
		u.Problem(err)
	}
}

// Finish says what all of it comes to.
func (u *Undoing) Finish() {
	u.Output.Event(&report.Ended{Archives: u.archives + u.partly, Failed: u.failed, Files: u.files, DryRun: u.DryRun, Took: report.Since(u.Started)})
	if u.Quiet {
		return
	}
	s, done, back := u.Summary(), "taken back", "back"
	if u.DryRun {
		done, back = "would be taken back", "would be back"
	}
	if u.archives+u.partly+u.failed+u.back == 0 {
		s.Printf("There is nothing to take back: it was done before, or the run delivered nothing.\n")
		return
	}
	s.Printf("%s %s: %s removed; %s\n", s.Strong(Count(u.archives, "archive")), done, Count(u.files, "file"), Took(time.Since(u.Started)))
	if u.partly > 0 {
		s.Printf("%s %s in part, until the files that stay are gone\n", s.Bad(Count(u.partly, "archive")), done)
	}
	if u.back > 0 {
		s.Printf("%s %s where they were\n", Count(u.back, "source file"), back)
	}
	if u.restored > 0 {
		s.Printf("%s that had been replaced %s\n", Count(u.restored, "file"), back)
	}
	if u.before > 0 {
		s.Printf("%s there before the run stay\n", Count(u.before, "file"))
	}
	if u.missing > 0 {
		s.Printf("%s not there any more\n", Count(u.missing, "file"))
	}
	if u.over > 0 {
		s.Printf("%s had taken the place of others, which do not come back\n", s.Bad(Count(u.over, "file")))
	}
	if u.altered > 0 {
		s.Printf("%s, reported above, and not touched\n", s.Bad(Count(u.altered, "file")+" altered since"))
	}
	if u.failed > 0 {
		s.Printf("%s not taken back, reported above\n", s.Bad(Count(u.failed, "archive")))
	}
}
