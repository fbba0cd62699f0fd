// Package extract unpacks archives: it opens each, chooses entries, finds their
// places, stages their data and commits it. Archives and the entries of one
// archive are worked on in parallel; what comes out, and in which order it is
// reported, does not depend on that.
package extract

import (
	"context"
	"io"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// Links says what happens to symbolic and hard links.
type Links uint8

// The rules for links.
const (
	KeepLinks   Links = iota // made, where they stay inside the archive's folder
	SkipLinks                // left out and counted
	RefuseLinks              // an archive with one is refused
)

// Options is a request to extract.
type Options struct {
	Sources   []source.Source
	Reading   archive.Options
	Selection *choose.Selection
	Placement *place.Placement
	Rules     stage.Rules
	Links     Links
	Nested    int      // how deep archives inside archives are opened; 0: not
	Archives  []string // inside an archive, what matches one is an archive too
	Limits    bound.Limits
	After     After
	Staging   string // folder for unfinished work; empty: in the destination root
	Workers   int    // at least 1
	Halt      bool   // take no further archive after one that fails
	DryRun    bool   // find out what would be done, and write nothing
	Progress  *Progress
}

// Observer is told what happens, never by two goroutines at a time.
type Observer struct {
	Archive func(*Outcome)  // once for each archive, in order
	Source  func(*Disposal) // once for each source that was to be removed or moved, in order, in the end
	Notice  func(text string)
}

// Progress counts what was done so far. It may be read at any time.
type Progress struct {
	Archives, Entries, Bytes atomic.Int64 // settled archives; staged entries and bytes
	Read                     atomic.Int64 // bytes of the sources that were dealt with
}

// An Outcome is what became of one archive.
type Outcome struct {
	Archive string        // its path, "outer.zip › inner.zip" for one inside another
	Source  source.Source // the outermost archive
	Format  string        // what its content turned out to be; empty if it could not be told
	Remarks []string      // how it was read; see archive.Remarks
	Target  string        // where it went, or was to go: an absolute path
	Placed  []Placed      // what was kept, in the order of the archive; nil with Err
	Entries int           // files and links in the archive, other archives that were opened aside
	LeftOut choose.Tally
	Lost    []Lost // what could not be had: of a method that is not read, or with Salvage damaged
	Bytes   int64  // bytes of the files that were written
	Took    time.Duration
	Err     error // why nothing of it was put into place; nil if all is well
}

// LostEntries counts the entries that were lost.
func (o *Outcome) LostEntries() int {
	n := 0
	for _, l := range o.Lost {
		if l.Entry != "" {
			n++
		}
	}
	return n
}

// Lost is something of a damaged archive that could not be had: an entry, or
// with an empty path all that may have come after a break.
type Lost struct {
	Entry string
	Err   error
}

// Placed is an entry that was kept.
type Placed struct {
	Entry  string // path in the archive
	Path   string // path on disk, absolute
	Kind   archive.Kind
	Size   int64
	Action stage.Action
	Summed bool   // its data was held against a checksum of its own
	Member string // of a series: the archive that it is in
}

// Run unpacks the sources. A source that fails does not stop the others; Run
// itself fails only when ctx is cancelled, and then everything not yet
// committed has been removed.
func Run(ctx context.Context, o Options, observe Observer) error {
	e := newEngine(ctx, o, observe)
	e.refuseSharedFolders()
	if o.DryRun {
		e.preview()
	} else {
		e.run()
	}
	if ctx.Err() == nil {
		e.dispose()
	}
	return ctx.Err()
}

// refuseSharedFolders refuses the sources that would get the same own folder:
// entries of different archives would be mixed in it.
func (e *engine) refuseSharedFolders() {
	if e.Placement.Layout != place.Own {
		return
	}
	key := func(u *unit) string {
		if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
			return strings.ToLower(u.outcome.Target)
		}
		return u.outcome.Target
	}
	byFolder := map[string][]*unit{}
	for _, u := range e.sources {
		byFolder[key(u)] = append(byFolder[key(u)], u)
	}
	for _, u := range e.sources {
		same := byFolder[key(u)]
		if len(same) < 2 || u.outcome.Source.Err != nil {
			continue
		}
		other := same[0]
		if other == u {
			other = same[1]
		}
		u.outcome.Source.Err = fault.At(u.outcome.Source.Path,
			fault.New(fault.Refused, "its folder %s would also be that of %s", u.outcome.Target, other.outcome.Source.Path).
				Advise(`name the folders with --own-name, "{parent}-{stem}" for example, or merge them with --layout shared`))
	}
}

// Stream writes the data of the selected files to w, in the order of the
// sources and of their entries, instead of unpacking them. Data goes out as it
// is decoded: an error may come after part of a file.
func Stream(ctx context.Context, o Options, w io.Writer, observe Observer) error {
	o.DryRun = true // nothing goes to a disk
	e := newEngine(ctx, o, observe)
	for u := e.first; u != nil && ctx.Err() == nil; u = u.next {
		u.err = u.stream(e, output{w})
		u.settle(e)
		observe.Archive(&u.outcome)
		if u.err != nil && (o.Halt || fault.Of(u.err) == fault.Unwritable) {
			break
		}
	}
	return ctx.Err()
}

// output tells errors of the receiver from those of the archives.
type output struct{ w io.Writer }

func (o output) Write(p []byte) (int, error) {
	n, err := o.w.Write(p)
	return n, fault.Writing("output", err)
}

// Totals sums up outcomes.
type Totals struct {
	Archives, Failed      int
	Entries, Kept         int // files and links in the archives that did not fail, and of them
	Same, Skipped, Placed int // Placed: added or replaced
	Bytes                 int64
	LeftOut               choose.Tally
	Failures
}

// Add takes one outcome into account.
func (t *Totals) Add(o *Outcome) {
	t.Archives++
	if o.Err != nil {
		t.Failed++
		t.Failures.Add(o.Err)
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

// Failures finds out what errors have in common.
type Failures struct {
	count int
	kind  fault.Kind
}

// Add takes one error into account.
func (f *Failures) Add(err error) {
	kind := fault.Of(err)
	if f.count > 0 && f.kind != kind {
		kind = fault.Other
	}
	f.kind = kind
	f.count++
}

// Count is how many there were.
func (f *Failures) Count() int { return f.count }

// Err is nil when nothing failed. Failures of one kind make an error of that
// kind, others one of kind fault.Other.
func (f *Failures) Err() error {
	if f.count == 0 {
		return nil
	}
	return fault.New(f.kind, "%d failures", f.count)
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}
