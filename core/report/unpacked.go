package report

import (
	"iter"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// Unpacked is what became, or would become, of one archive.
type Unpacked struct {
	Archive string       `json:"archive"` // its path, "outer.zip › inner.zip" for one inside another
	Target  string       `json:"into"`    // where the archive went, or was to go: an absolute path
	Entries int          `json:"entries"` // files and links in the archive, other archives that were opened aside
	LeftOut choose.Tally `json:"left_out,omitzero"`
	Bytes   int64        `json:"bytes"`                 // of the files that were written
	SetID   int          `json:"set_id,omitempty"`      // files that were to run with the rights of their owner or group, and do not
	Modes   int          `json:"other_modes,omitempty"` // files that were there already, and keep other permissions than the archive has
	Took    Took         `json:"seconds"`
	DryRun  bool         `json:"dry_run,omitempty"`

	Passwords []int              `json:"passwords,omitempty"` // numbers of the candidates, from 1, that opened it
	Remarks   archive.RemarkList `json:"remarks,omitzero"`    // how the archive was read; see archive.Remarks

	Source  source.Source  `json:"-"` // the outermost archive
	Format  string         `json:"-"` // what its content turned out to be; empty if it could not be found out
	Placed  []Placed       `json:"-"` // what was kept, in the order of the archive; nil with Err
	Inside  int            `json:"-"` // archives inside that are reported after this one, unless the run ends before
	Dates   *choose.Window `json:"-"` // what the choice by dates came to; nil: there was none
	Lost    []Lost         `json:"-"` // what could not be had: of a method that is not read, or with Salvage damaged
	Folders []string       `json:"-"` // that were made, absolute; what is below one of them is new, too
	Swapped string         `json:"-"` // where the folder is kept that was swapped for this one; empty: nowhere
	Removed []string       `json:"-"` // paths of an earlier run that are gone with its folder
	Asked   string         `json:"-"` // where the archive was to go before it was open: an absolute path
	Root    string         `json:"-"` // the destination root, an absolute path
	From    []blob.File    `json:"-"` // that a source was read from; nil for one inside another
	Done    bool           `json:"-"` // an earlier run delivered the archive, and it was skipped
	Earlier *Earlier       `json:"-"` // what that delivered
	Err     error          `json:"-"` // why nothing was put into place; nil if all is well
}

// Earlier is what an earlier run delivered of a source, or packed.
type Earlier struct {
	Paths []string // of the files of an archive that was made
	Files []Packed // delivered, by their paths on disk; or packed, by those in the archive
	All   bool     // nothing was left out
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
	Entry  string       `json:"entry"` // path in the archive
	Path   string       `json:"path"`  // path on disk, absolute
	Kind   archive.Kind `json:"type"`
	Size   int64        `json:"size"`
	Action stage.Action `json:"action"`
	Summed bool         `json:"summed"`           // its data was checked against a checksum of its own
	Member string       `json:"member,omitempty"` // of a series: the archive that it is in
	Kept   string       `json:"kept,omitempty"`   // where what it replaced is kept
	Spelt  bool         `json:"-"`                // some name in its path could not stay; see place.Spelling
	Link   string       `json:"-"`                // where a link leads, as the archive says
	SHA256 []byte       `json:"-"`                // of its data; nil where it was not written, or nobody asked
}

// Lines are one for each file and link that was kept or lost, then one for the
// archive.
func (o *Unpacked) Lines() iter.Seq[Line] {
	type about struct {
		Archive string `json:"archive"`
		Entry   string `json:"entry,omitempty"`
		Path    string `json:"path,omitempty"`
	}
	return func(yield func(Line) bool) {
		for i := range o.Placed {
			written := struct {
				Archive string `json:"archive"`
				*Placed
			}{o.Archive, &o.Placed[i]}
			if written.Kind != archive.Folder && !yield(Line{"written", written, nil}) {
				return
			}
		}
		for _, l := range o.Lost {
			if !yield(Line{"lost", about{Archive: o.Archive, Entry: l.Entry}, l.Err}) {
				return
			}
		}
		for _, path := range o.Removed {
			if !yield(Line{"removed", about{Archive: o.Archive, Path: path}, nil}) {
				return
			}
		}
		skipped := ""
		if o.Done {
			skipped = "done"
		}
		yield(Line{"archive", struct {
			*Unpacked
			Skipped string `json:"skipped,omitempty"`
		}{o, skipped}, o.Err})
	}
}

// A Disposal is what became, or would become, of one source in the end.
type Disposal struct {
	Source         string `json:"archive"`
	Failed         bool   `json:"failed,omitempty"` // it went because it failed
	DryRun         bool   `json:"dry_run,omitempty"`
	disposal.Taken `json:"-"`
}

// Disposed takes note of what became of sources.
func (tell Sink) Disposed(failed, dryRun bool) func(s source.Source, taken disposal.Taken) {
	return func(s source.Source, taken disposal.Taken) {
		tell(&Disposal{Source: s.Path, Failed: failed, DryRun: dryRun, Taken: taken})
	}
}

// After is what became of the source in one word.
func (d *Disposal) After() string {
	switch {
	case d.Err != nil || d.Kept != "":
		return "kept"
	case d.To() != "":
		return "moved"
	}
	return "removed"
}

// To is where the source was moved; empty: it was not.
func (d *Disposal) To() string {
	if len(d.Files) == 0 {
		return ""
	}
	return d.Files[0].To
}

// Lines are one.
func (d *Disposal) Lines() iter.Seq[Line] {
	return one(Line{"source", struct {
		*Disposal
		To    string `json:"to,omitempty"`
		Kept  string `json:"why,omitempty"`
		After string `json:"after"`
	}{d, d.To(), d.Kept, d.After()}, d.Err})
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
	Remarks               Remarks  // on how archives were read
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
	t.Remarks.Add(o.Archive, o.Remarks)
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
