package report

import (
	"iter"
	"slices"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// Unpacked is what became, or would become, of one archive.
type Unpacked struct {
	Archive string           // its path, "outer.zip › inner.zip" for one inside another
	Source  source.Source    // the outermost archive
	Format  string           // what its content turned out to be; empty if it could not be found out
	Remarks []archive.Remark // how it was read; see archive.Remarks
	Target  string           // where it went, or was to go: an absolute path
	Placed  []Placed         // what was kept, in the order of the archive; nil with Err
	Entries int              // files and links in the archive, other archives that were opened aside
	Inside  int              // archives inside it that are reported after it, unless the run ends before
	LeftOut choose.Tally
	Dates   *choose.Window // what the choice by dates came to; nil: there was none
	Lost    []Lost         // what could not be had: of a method that is not read, or with Salvage damaged
	Removed []string       // paths of an earlier run that are gone with its folder
	Bytes   int64          // bytes of the files that were written
	SetID   int            // files that were to run with the rights of their owner or group, and do not
	Modes   int            // files that were there already, and keep other permissions than the archive has
	Took    time.Duration
	DryRun  bool
	Asked   string      // where it was to go before it was open: an absolute path
	Root    string      // the destination root, an absolute path
	From    []blob.File // that a source was read from; nil for one inside another
	Done    bool        // it was delivered by an earlier run, and skipped
	Earlier *Earlier    // what that delivered
	Err     error       // why nothing of it was put into place; nil if all is well
}

// Earlier is what an earlier run delivered of a source, or packed.
type Earlier struct {
	Paths []string // of the files of an archive that was made
	Files []Packed // delivered, by their paths on disk; or packed, by those in the archive
	All   bool     // it was all of it
}

// LostEntries counts the entries that were lost.
func (o *Unpacked) LostEntries() int {
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
	Summed bool   // its data was checked against a checksum of its own
	Spelt  bool   // some name in its path could not stay; see place.Spelling
	Member string // of a series: the archive that it is in
	Link   string // where a link leads, as the archive says
	SHA256 []byte // of its data; nil where it was not written, or nobody asked
}

// written is a line for each file and link that was kept.
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

// lost is a line for what could not be had of a damaged archive.
type lost struct {
	Kind    string   `json:"kind"`
	Archive string   `json:"archive"`
	Entry   string   `json:"entry,omitempty"`
	Failure *Failure `json:"failure"`
}

// removed is a line for each path of an earlier run that is gone.
type removed struct {
	Kind    string `json:"kind"`
	Archive string `json:"archive"`
	Path    string `json:"path"`
}

// unpacked is a line for each archive.
type unpacked struct {
	Kind    string         `json:"kind"`
	Archive string         `json:"archive"`
	Into    string         `json:"into"`
	Entries int            `json:"entries"`
	LeftOut map[string]int `json:"left_out,omitempty"`
	Bytes   int64          `json:"bytes"`
	SetID   int            `json:"set_id,omitempty"`
	Modes   int            `json:"other_modes,omitempty"`
	Seconds float64        `json:"seconds"`
	DryRun  bool           `json:"dry_run,omitempty"`
	Skipped string         `json:"skipped,omitempty"`
	Failure *Failure       `json:"failure,omitempty"`
}

// Lines are one for each file and link that was kept or lost, then one for the
// archive.
func (o *Unpacked) Lines(say fault.Wording) iter.Seq[any] {
	return func(yield func(any) bool) {
		for _, p := range o.Placed {
			if p.Kind != archive.Folder && !yield(written{"written", o.Archive, p.Entry, p.Path, p.Kind.String(), p.Size, p.Action.String(), p.Summed, p.Member}) {
				return
			}
		}
		for _, l := range o.Lost {
			if !yield(lost{"lost", o.Archive, l.Entry, FailureOf(l.Err, say)}) {
				return
			}
		}
		for _, path := range o.Removed {
			if !yield(removed{"removed", o.Archive, path}) {
				return
			}
		}
		skipped := ""
		if o.Done {
			skipped = "done"
		}
		yield(unpacked{Kind: "archive", Archive: o.Archive, Into: o.Target, Entries: o.Entries, Skipped: skipped,
			LeftOut: ByRule(o.LeftOut), Bytes: o.Bytes, SetID: o.SetID, Modes: o.Modes, Seconds: o.Took.Seconds(), DryRun: o.DryRun, Failure: FailureOf(o.Err, say)})
	}
}

// A Disposal is what became, or would become, of one source in the end.
type Disposal struct {
	Source string
	Kept   string // why it was kept; empty: it was removed or moved
	To     string // where it was moved
	DryRun bool
	Err    error // of a removal or move that failed; the source is kept
}

// After is what became of it in one word.
func (d *Disposal) After() string {
	switch {
	case d.Err != nil || d.Kept != "":
		return "kept"
	case d.To != "":
		return "moved"
	}
	return "removed"
}

// disposed is a line for each source.
type disposed struct {
	Kind    string   `json:"kind"`
	Archive string   `json:"archive"`
	After   string   `json:"after"`
	To      string   `json:"to,omitempty"`
	Why     string   `json:"why,omitempty"`
	DryRun  bool     `json:"dry_run,omitempty"`
	Failure *Failure `json:"failure,omitempty"`
}

// Lines are one.
func (d *Disposal) Lines(say fault.Wording) iter.Seq[any] {
	return lines(disposed{"source", d.Source, d.After(), d.To, d.Kept, d.DryRun, FailureOf(d.Err, say)})
}

// Totals sum up what became of archives.
type Totals struct {
	Archives, Failed      int
	Done                  int // of them, that were delivered by an earlier run
	Entries, Kept         int // files and links in the archives that did not fail, and of them
	Same, Skipped, Placed int // Placed: added or replaced
	Lost                  int
	Unsummed              int // files that were placed without a checksum of their own
	Spelt                 int // files and links with names that could not stay
	SetID, Modes          int // see Unpacked
	Bytes                 int64
	LeftOut               choose.Tally
	Empty                 []string // archives of which nothing was kept
	Assumed               []string // archives with names in an encoding that nothing says
	Failures                       // of archives, and of what was lost
}

// Add takes one archive into account.
func (t *Totals) Add(o *Unpacked) {
	t.Archives++
	for _, l := range o.Lost {
		t.Lost++
		t.Failures.Add(l.Err)
	}
	if o.Err != nil {
		t.Failed++
		t.Failures.Add(o.Err)
		return
	}
	if o.Done {
		t.Done++
	}
	if o.Entries > 0 && o.Entries == o.LeftOut.LeftOut() {
		t.Empty = append(t.Empty, o.Archive)
	}
	if slices.ContainsFunc(o.Remarks, func(r archive.Remark) bool { return r.Hint == fault.NameEncoding }) {
		t.Assumed = append(t.Assumed, o.Archive)
	}
	t.Entries += o.Entries
	t.Bytes += o.Bytes
	t.SetID += o.SetID
	t.Modes += o.Modes
	t.LeftOut.Add(o.LeftOut)
	for i := range o.Placed {
		p := &o.Placed[i]
		if p.Kind == archive.Folder {
			continue
		}
		t.Kept++
		if p.Spelt {
			t.Spelt++
		}
		switch p.Action {
		case stage.Added, stage.Replaced:
			t.Placed++
			if p.Kind == archive.File && !p.Summed {
				t.Unsummed++
			}
		case stage.Same:
			t.Same++
		case stage.Skipped:
			t.Skipped++
		}
	}
}
