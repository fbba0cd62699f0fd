// Package extract unpacks archives: it opens each, chooses entries, finds their
// places, stages their data and commits it. Archives and the entries of one
// archive are worked on in parallel; what comes out, and in which order it is
// reported, does not depend on that.
package extract

import (
	"context"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// Options is a request to extract.
type Options struct {
	Sources   []source.Source
	Selection *choose.Selection
	Placement place.Placement
	Clash     stage.Clash
	Workers   int  // at least 1
	DryRun    bool // find out what would be done, and write nothing
}

// An Outcome is what became of one source.
type Outcome struct {
	Source  source.Source
	Target  string   // where it went, or was to go: an absolute path
	Placed  []Placed // what was kept, in the order of the archive; nil with Err
	Entries int      // files and links in the archive
	LeftOut choose.Tally
	Bytes   int64 // bytes of the files that were written
	Took    time.Duration
	Err     error // why nothing of it was put into place; nil if all is well
}

// Placed is an entry that was kept.
type Placed struct {
	Entry  string // path in the archive
	Path   string // path on disk, absolute
	Kind   archive.Kind
	Size   int64
	Action stage.Action
}

// Run unpacks the sources. report is called once for each, in their order,
// never twice at a time. A source that fails does not stop the others; Run
// itself fails only when ctx is cancelled, and then everything not yet
// committed has been removed.
func Run(ctx context.Context, o Options, report func(*Outcome)) error {
	e := newEngine(ctx, o, report)
	e.refuseSharedFolders()
	if o.DryRun {
		e.preview()
	} else {
		e.run()
	}
	return ctx.Err()
}

// refuseSharedFolders refuses the sources that would get the same own folder:
// entries of different archives would be mixed in it.
func (e *engine) refuseSharedFolders() {
	if e.Placement.Layout != place.Own {
		return
	}
	byFolder := map[string][]*unit{}
	for _, u := range e.units {
		key := u.outcome.Target
		if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
			key = strings.ToLower(key)
		}
		byFolder[key] = append(byFolder[key], u)
	}
	for _, u := range e.units {
		same := byFolder[u.outcome.Target]
		if len(same) < 2 || u.outcome.Source.Err != nil {
			continue
		}
		other := same[0]
		if other == u {
			other = same[1]
		}
		u.outcome.Source.Err = fault.At(u.outcome.Source.Path,
			fault.New(fault.Refused, "its folder %s would also be that of %s", u.outcome.Target, other.outcome.Source.Path).
				Advise("unpack them in separate calls with different --into folders, or together with --layout shared"))
	}
}

// Totals sums up outcomes.
type Totals struct {
	Archives, Failed             int
	Entries, Kept                int // files and links in the archives that did not fail, and of them
	Added, Same, Skipped, Placed int // Placed: added or replaced
	Bytes                        int64
	LeftOut                      choose.Tally
	kinds                        map[fault.Kind]bool
	only                         error
}

// Add takes one outcome into account.
func (t *Totals) Add(o *Outcome) {
	t.Archives++
	if o.Err != nil {
		t.Failed++
		if t.kinds == nil {
			t.kinds = map[fault.Kind]bool{}
		}
		t.kinds[fault.Of(o.Err)] = true
		t.only = o.Err
		return
	}
	t.Entries += o.Entries
	t.Bytes += o.Bytes
	t.LeftOut.Add(o.LeftOut)
	for _, p := range o.Placed {
		if p.Kind == archive.Folder {
			continue
		}
		t.Kept++
		switch p.Action {
		case stage.Added, stage.Replaced:
			t.Placed++
		case stage.Same:
			t.Same++
		case stage.Skipped:
			t.Skipped++
		}
	}
}

// Err is nil when nothing failed. Failures of one kind make an error of that
// kind, others one of kind fault.Other.
func (t *Totals) Err() error {
	if t.Failed == 0 {
		return nil
	}
	kind := fault.Other
	if len(t.kinds) == 1 {
		kind = fault.Of(t.only)
	}
	return fault.New(kind, "%d of %d archives failed", t.Failed, t.Archives)
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}
