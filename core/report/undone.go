package report

import "iter"

// Undone is what was taken back of one archive that an earlier run unpacked, or made.
type Undone struct {
	Archive  string `json:"archive"`
	Target   string `json:"into,omitempty"`     // the folder that it went to, absolute; empty: it was made
	Removed  int    `json:"removed"`            // files and links
	Missing  int    `json:"missing,omitempty"`  // that were not there any more
	There    int    `json:"same,omitempty"`     // that were there before, and stay
	Over     int    `json:"replaced,omitempty"` // that had taken the place of others, which do not come back
	Restored int    `json:"restored,omitempty"` // files that had been replaced, and are back
	DryRun   bool   `json:"dry_run,omitempty"`
	Took     Took   `json:"seconds"`

	Paths []string `json:"-"` // of what was removed, absolute
	Stays []Stayed `json:"-"` // what was altered since
	Err   error    `json:"-"` // why nothing of it was taken back
}

// Stayed is a file that was not taken back.
type Stayed struct {
	Path string `json:"path"`
	Err  error  `json:"-"`
}

// Lines are one for each file that stays, and one for the archive.
func (u *Undone) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for _, s := range u.Stays {
			if !yield(Line{"stays", s, s.Err}) {
				return
			}
		}
		yield(Line{"undone", u, u.Err})
	}
}

// Returned is a file of a source that is back where it was before an earlier run moved it.
type Returned struct {
	Path   string `json:"path"` // where it was
	From   string `json:"from"`
	DryRun bool   `json:"dry_run,omitempty"`
	Err    error  `json:"-"` // why it is not
}

// Lines are one.
func (r *Returned) Lines() iter.Seq[Line] { return one(Line{"returned", r, r.Err}) }
