package show

import (
	"widecrate/core/disposal"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// disposals are what became of sources in the end.
type disposals struct {
	removed int
	stay    int            // that lie where they would be moved
	movedTo []string       // folders that sources were moved to, in the order of the first
	moved   map[string]int // how many to each
	kept    []*report.Disposal
}

// add takes note of what became of a source, unless that failed.
func (s *disposals) add(d *report.Disposal) {
	switch after := d.After(); {
	case d.Err != nil:
	case d.Kept == disposal.LiesThere:
		s.stay++
	case d.Kept != "":
		s.kept = append(s.kept, d)
	case after == "moved":
		to := storage.Dir(d.To())
		if s.moved == nil {
			s.moved = map[string]int{}
		}
		if s.moved[to]++; s.moved[to] == 1 {
			s.movedTo = append(s.movedTo, to)
		}
	default:
		s.removed++
	}
}

// tell says what became of the sources.
func (s *disposals) tell(to *Screen, dryRun bool) {
	for _, kept := range s.kept[:min(len(s.kept), listed)] {
		to.Printf("kept %s: %s\n", to.Name(kept.Source), kept.Kept)
	}
	if more := len(s.kept) - listed; more > 0 {
		to.Printf("kept %s (--as json says why)\n", Count(more, "more archive"))
	}
	would := ""
	if dryRun {
		would = "would be "
	}
	if s.stay > 0 {
		to.Printf("kept %s: already where they would be moved\n", Count(s.stay, "archive"))
	}
	if s.removed > 0 {
		to.Printf("%s %sremoved\n", Count(s.removed, "archive"), would)
	}
	for _, folder := range s.movedTo {
		to.Printf("%s %smoved to %s\n", Count(s.moved[folder], "archive"), would, to.Name(folder))
	}
}
