package report

import (
	"iter"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/parts"
)

// Made is what is said of every new archive.
type Made struct {
	Format  string       `json:"format"`
	Files   int          `json:"files"` // files and links in it
	Size    int64        `json:"size"`
	Packed  int64        `json:"bytes"` // size of the archive
	LeftOut choose.Tally `json:"left_out,omitzero"`
	Parts   []string     `json:"parts,omitempty"` // absolute paths, in order; nil: the archive is one file
	Sums    string       `json:"sums,omitempty"`  // the list beside them
	Took    Took         `json:"seconds"`

	SHA256 map[string][]byte `json:"-"` // of its files, by their paths, where they are known
	Kept   map[string]string `json:"-"` // where what its files replaced is kept, by their paths

	Replaced []string `json:"-"` // its files on disk that took the place of others
}

// Created is what was packed into a new archive.
type Created struct {
	Archive string `json:"archive"` // absolute path
	Made
	ReadBack int             `json:"read_back,omitempty"`   // entries that were read back and are as they were packed
	Removed  int             `json:"removed,omitempty"`     // sources that were removed
	Spelt    int             `json:"spelt,omitempty"`       // paths that were changed so that every system can hold them
	Clamped  int             `json:"other_times,omitempty"` // times beyond what the format can hold, which became the nearest
	Kept     string          `json:"why,omitempty"`         // why sources were not removed
	DryRun   bool            `json:"dry_run,omitempty"`
	Done     bool            `json:"done,omitempty"` // the archive was made before of the same, and nothing was done
	ID       string          `json:"-"`              // of all that went in, as it was then; empty: nobody asked, or nothing would show a change
	Entries  []archive.Entry `json:"-"`
	From     []*Packed       `json:"-"` // what each entry was packed from; nil where nobody asked
	Itself   bool            `json:"-"` // the archive lies in a source, and was left out
}

// Packed is what an entry was packed from.
type Packed struct {
	Path   string // on disk; empty: a text or a stream
	SHA256 []byte // of a file
}

// Add takes an entry into account.
func (c *Created) Add(e archive.Entry) {
	c.Entries = append(c.Entries, e)
	if e.Kind != archive.Folder {
		c.Files++
		c.Size = archive.Plus(c.Size, e.Size)
	}
}

// Lines are one.
func (c *Created) Lines() iter.Seq[Line] { return one(Line{"archive", c, nil}) }

// Converted is what became of one archive that was to be rewritten.
type Converted struct {
	Archive string `json:"archive"`        // the source
	Path    string `json:"path,omitempty"` // of the new one, absolute
	Made
	Copied    int      `json:"copied"`              // entries that were copied as they are packed
	Repacked  int      `json:"repacked"`            // entries that were encoded again
	Notes     []string `json:"notes,omitempty"`     // what the new archive cannot hold, for people
	Passwords []int    `json:"passwords,omitempty"` // numbers of the candidates, from 1, that opened the source
	ReadBack  int      `json:"read_back,omitempty"` // entries that were read back and are as they were written
	DryRun    bool     `json:"dry_run,omitempty"`
	Done      bool     `json:"done,omitempty"` // the archive was made before of the same, and nothing was done
	Err       error    `json:"-"`

	From    []blob.File       `json:"-"` // the files of the source
	Asked   string            `json:"-"` // the path of the new one, without a number that it may have
	Dates   *choose.Window    `json:"-"` // what a choice by dates came to; nil: there was none
	Entries []archive.Entry   `json:"-"` // of the new one, where it was read back
	Sums    [][]byte          `json:"-"` // SHA-256 of each, nil for what is no file, where they are asked for
	There   []disposal.Record `json:"-"` // the files of the new one, where the source is to go
}

// Lines are one.
func (c *Converted) Lines() iter.Seq[Line] { return one(Line{"archive", c, c.Err}) }

// Edited is what became of an archive that was changed.
type Edited struct {
	Archive  string       `json:"archive"` // absolute path
	Source   string       `json:"-"`       // the same, as it was named
	Added    int          `json:"added"`
	Replaced int          `json:"replaced"`
	Removed  int          `json:"removed"`
	Moved    int          `json:"moved"`
	Stay     int          `json:"same"`
	Before   int64        `json:"bytes_before"` // size of the archive
	After    int64        `json:"bytes"`
	ReadBack int          `json:"read_back,omitempty"` // entries that were read back and are as they were written
	OnlyRead int          `json:"only_read,omitempty"` // archives inside, in formats that are not written: they stay
	LeftOut  choose.Tally `json:"left_out,omitzero"`
	Took     Took         `json:"seconds"`
	Made     Made         `json:"-"`                   // of a set, its parts; where what was replaced is kept
	Same     bool         `json:"unchanged,omitempty"` // nothing would have changed, and the archive stayed
	DryRun   bool         `json:"dry_run,omitempty"`
	Locked   int          `json:"-"` // entries that are; new ones are not, unless a password was given
	Err      error        `json:"-"`
}

// Lines are one.
func (e *Edited) Lines() iter.Seq[Line] { return one(Line{"archive", e, e.Err}) }

// Set is a set in parts that was found, with what is wrong with it.
type Set struct {
	*parts.Set `json:"-"`

	Name     string   `json:"name"`
	Path     string   `json:"path"`
	Type     string   `json:"type"`
	Parts    []string `json:"parts"`
	Expected int      `json:"expected"`
	Missing  []string `json:"missing,omitempty"`
	Size     int64    `json:"size"`
	Complete bool     `json:"complete"`
	Open     bool     `json:"more_may_follow,omitempty"`
	Summed   int      `json:"summed,omitempty"` // parts, or the whole, that were checked against a list of sums
	Err      error    `json:"-"`
}

// SetOf says what is known of a set.
func SetOf(s *parts.Set, summed int, err error) *Set {
	return &Set{Set: s, Name: s.Name, Path: s.Path(), Type: s.Kind.String(), Parts: s.Present(), Expected: len(s.Parts),
		Missing: s.Missing(), Size: s.Size(), Complete: err == nil, Open: s.MoreMayFollow(), Summed: summed, Err: err}
}

// Lines are one.
func (s *Set) Lines() iter.Seq[Line] { return one(Line{"set", s, s.Err}) }

// Joined is a file that was put together from so many parts.
type Joined struct {
	Source   string `json:"set"`  // the part that stands for the set
	Path     string `json:"path"` // absolute
	Parts    int    `json:"parts"`
	Size     int64  `json:"size"`
	Summed   int    `json:"summed"` // parts and wholes that were checked against a list of sums
	DryRun   bool   `json:"dry_run,omitempty"`
	Took     Took   `json:"seconds"`
	ZIP      bool   `json:"-"` // a split ZIP archive became an ordinary one
	Listless bool   `json:"-"` // lists of sums are not looked for where the parts are
	Err      error  `json:"-"`
}

// Lines are one.
func (j *Joined) Lines() iter.Seq[Line] { return one(Line{"file", j, j.Err}) }

// Split is a set that was made of a file.
type Split struct {
	Source string   `json:"file"`
	Parts  []string `json:"parts"`
	Sums   string   `json:"sums"`
	Size   int64    `json:"size"`
	DryRun bool     `json:"dry_run,omitempty"`
	Took   Took     `json:"seconds"`
	Err    error    `json:"-"`
}

// Lines are one.
func (s *Split) Lines() iter.Seq[Line] { return one(Line{"set", s, s.Err}) }

// Weighed is what several ways of packing made of the same files.
type Weighed struct {
	Files    int     `json:"files"`
	Size     int64   `json:"size"`               // of all of them
	Archives int     `json:"archives,omitempty"` // that were looked into
	Closed   int     `json:"closed,omitempty"`   // archives that could not be, and were weighed as they lie
	Sampled  int     `json:"sampled"`            // how many were packed, in whole or in part
	Packed   int64   `json:"packed"`             // bytes of them that were packed
	Off      float64 `json:"off"`
	Ways     []Way   `json:"-"`
}

// Way is one way, and what it made of the sample.
type Way struct {
	Name     string   `json:"way"`
	Format   string   `json:"format"`
	Method   string   `json:"method,omitempty"`
	Level    *int     `json:"level,omitempty"` // nil: the usual one
	Size     int64    `json:"size"`
	Estimate int64    `json:"estimate"` // for everything
	Took     Took     `json:"seconds"`
	Best     []string `json:"best,omitempty"` // words for what it is
}

// Lines are one for each way, then one for the files.
func (w *Weighed) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for i := range w.Ways {
			if !yield(Line{"way", &w.Ways[i], nil}) {
				return
			}
		}
		yield(Line{"sample", w, nil})
	}
}
