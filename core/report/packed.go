package report

import (
	"iter"
	"path/filepath"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
)

// Created is what was packed into a new archive.
type Created struct {
	Archive  string // absolute path
	Format   string
	ID       string // of what went into it, as it was; empty: nobody asked, or nothing would say that it changed
	Done     bool   // it was made before of the same, and nothing was done
	Entries  []archive.Entry
	From     []*Packed // what each was packed from; nil in it where it is no file, and as a whole where nobody asked
	Files    int       // files and links in the archive
	Size     int64
	Packed   int64        // size of the archive
	Parts    *cut.Written // nil: it is one file
	LeftOut  choose.Tally
	Clamped  int    // times beyond what the format can hold, which became the nearest
	Spelt    int    // paths that were changed so that every system can hold them
	Itself   bool   // the archive lies in a source, and was left out
	ReadBack int    // entries that were read back and are as they were packed
	Removed  int    // sources that were removed
	Kept     string // why they were not
	DryRun   bool
	Took     time.Duration
}

// Packed is what an entry was packed from.
type Packed struct {
	Path   string // of the file; empty: a text or a stream
	SHA256 []byte
}

// Add takes an entry into account.
func (c *Created) Add(e archive.Entry) {
	c.Entries = append(c.Entries, e)
	if e.Kind != archive.Folder {
		c.Files++
		c.Size = archive.Plus(c.Size, e.Size)
	}
}

type created struct {
	Kind     string         `json:"kind"`
	Archive  string         `json:"archive"`
	Format   string         `json:"format"`
	Files    int            `json:"files"`
	Size     int64          `json:"size"`
	Bytes    int64          `json:"bytes"`
	LeftOut  map[string]int `json:"left_out,omitempty"`
	Parts    []string       `json:"parts,omitempty"`
	Sums     string         `json:"sums,omitempty"`
	ReadBack int            `json:"read_back,omitempty"`
	Removed  int            `json:"removed,omitempty"`
	Spelt    int            `json:"spelt,omitempty"`
	Clamped  int            `json:"other_times,omitempty"`
	Why      string         `json:"why,omitempty"`
	DryRun   bool           `json:"dry_run,omitempty"`
	Done     bool           `json:"done,omitempty"`
	Seconds  float64        `json:"seconds"`
}

// Lines are one.
func (c *Created) Lines(_ fault.Wording) iter.Seq[any] {
	line := created{"archive", c.Archive, c.Format, c.Files, c.Size, c.Packed, ByRule(c.LeftOut), nil, "", c.ReadBack, c.Removed, c.Spelt, c.Clamped, c.Kept, c.DryRun, c.Done, c.Took.Seconds()}
	if c.Parts != nil {
		line.Parts, line.Sums = c.Parts.Parts, c.Parts.List
	}
	return lines(line)
}

// Converted is what became of one archive that was to be rewritten.
type Converted struct {
	Archive          string // the source
	Result           Created
	Packed, Repacked int // entries that were copied as they are packed, and that were encoded again
	Lost             []string
	Err              error
}

type converted struct {
	Kind     string         `json:"kind"`
	Archive  string         `json:"archive"`
	Path     string         `json:"path,omitempty"`
	Format   string         `json:"format"`
	Files    int            `json:"files"`
	Size     int64          `json:"size"`
	Bytes    int64          `json:"bytes"`
	Copied   int            `json:"copied"`
	Repacked int            `json:"repacked"`
	Notes    []string       `json:"notes,omitempty"`
	LeftOut  map[string]int `json:"left_out,omitempty"`
	Parts    []string       `json:"parts,omitempty"`
	Sums     string         `json:"sums,omitempty"`
	Seconds  float64        `json:"seconds"`
	Failure  *Failure       `json:"failure,omitempty"`
}

// Lines are one.
func (c *Converted) Lines(say fault.Wording) iter.Seq[any] {
	r := &c.Result
	line := converted{Kind: "archive", Archive: c.Archive, Path: r.Archive, Format: r.Format, Files: r.Files, Size: r.Size, Bytes: r.Packed,
		Copied: c.Packed, Repacked: c.Repacked, Notes: c.Lost, LeftOut: ByRule(r.LeftOut), Seconds: r.Took.Seconds(), Failure: FailureOf(c.Err, say)}
	if r.Parts != nil {
		line.Parts, line.Sums = r.Parts.Parts, r.Parts.List
	}
	return lines(line)
}

// Edited is what became of an archive that was changed.
type Edited struct {
	Path                                  string
	Added, Replaced, Removed, Moved, Stay int
	Spare                                 []string // patterns that removed nothing, beside other changes
	Before, After                         int64    // sizes of the archive
	Locked                                int      // entries that are; new ones are not, unless a password was given
	LeftOut                               choose.Tally
	Took                                  time.Duration
}

type edited struct {
	Kind     string         `json:"kind"`
	Archive  string         `json:"archive"`
	Added    int            `json:"added"`
	Replaced int            `json:"replaced"`
	Removed  int            `json:"removed"`
	Moved    int            `json:"moved"`
	Same     int            `json:"same"`
	Spare    []string       `json:"unmatched,omitempty"`
	Before   int64          `json:"bytes_before"`
	Bytes    int64          `json:"bytes"`
	LeftOut  map[string]int `json:"left_out,omitempty"`
	Seconds  float64        `json:"seconds"`
}

// Lines are one.
func (e *Edited) Lines(_ fault.Wording) iter.Seq[any] {
	return lines(edited{"archive", absolute(e.Path), e.Added, e.Replaced, e.Removed, e.Moved, e.Stay, e.Spare, e.Before, e.After, ByRule(e.LeftOut), e.Took.Seconds()})
}

// absolute is a path that does not depend on where the program ran.
func absolute(path string) string {
	if full, err := filepath.Abs(path); err == nil {
		return full
	}
	return path
}

// Set is a set in parts that was found, with what is wrong with it.
type Set struct {
	*parts.Set
	Summed int // parts, or the whole, that were checked against a list of sums
	Err    error
}

type set struct {
	Kind     string   `json:"kind"`
	Name     string   `json:"name"`
	Path     string   `json:"path"`
	Type     string   `json:"type"`
	Parts    []string `json:"parts"`
	Expected int      `json:"expected"`
	Missing  []string `json:"missing,omitempty"`
	Size     int64    `json:"size"`
	Complete bool     `json:"complete"`
	Open     bool     `json:"more_may_follow,omitempty"`
	Summed   int      `json:"summed,omitempty"`
	Failure  *Failure `json:"failure,omitempty"`
}

// Lines are one.
func (s *Set) Lines(say fault.Wording) iter.Seq[any] {
	return lines(set{Kind: "set", Name: s.Name, Path: s.Path(), Type: s.Kind.String(), Parts: s.Present(), Expected: len(s.Parts),
		Missing: s.Missing(), Size: s.Size(), Complete: s.Err == nil, Open: s.MoreMayFollow(), Summed: s.Summed, Failure: FailureOf(s.Err, say)})
}

// Joined is a file that was put together from so many parts.
type Joined struct {
	cut.Joined
	Parts int
	Took  time.Duration
}

type joined struct {
	Kind    string  `json:"kind"`
	Path    string  `json:"path"`
	Parts   int     `json:"parts"`
	Size    int64   `json:"size"`
	Summed  int     `json:"summed"`
	Seconds float64 `json:"seconds"`
}

// Lines are one.
func (j *Joined) Lines(_ fault.Wording) iter.Seq[any] {
	return lines(joined{"file", absolute(j.Path), j.Parts, j.Size, j.Summed, j.Took.Seconds()})
}

// Split is a set that was made of a file.
type Split struct {
	cut.Written
	Took time.Duration
}

type split struct {
	Kind    string   `json:"kind"`
	Parts   []string `json:"parts"`
	Sums    string   `json:"sums"`
	Size    int64    `json:"size"`
	Seconds float64  `json:"seconds"`
}

// Lines are one.
func (s *Split) Lines(_ fault.Wording) iter.Seq[any] {
	return lines(split{"set", s.Parts, s.List, s.Size, s.Took.Seconds()})
}

// Weighed is what several ways of packing made of the same files.
type Weighed struct {
	Files   int
	Size    int64 // of all of them
	Sampled int   // how many were packed, in whole or in part
	Packed  int64 // bytes of them that were packed
	Off     float64
	Ways    []Way
}

// Way is one way, and what it made of the sample.
type Way struct {
	Name, Format, Method         string
	Level                        *int // nil: the usual one
	Size                         int64
	Estimate                     int64 // for everything
	Took                         time.Duration
	Smallest, Fastest, BestTrade bool
}

// Best are the words for what it is.
func (w *Way) Best() []string {
	var best []string
	for _, mark := range []struct {
		is   bool
		name string
	}{{w.Smallest, "smallest"}, {w.Fastest, "fastest"}, {w.BestTrade, "best trade"}} {
		if mark.is {
			best = append(best, mark.name)
		}
	}
	return best
}

// way is a line for each.
type way struct {
	Kind     string   `json:"kind"`
	Way      string   `json:"way"`
	Format   string   `json:"format"`
	Method   string   `json:"method,omitempty"`
	Level    *int     `json:"level,omitempty"`
	Size     int64    `json:"size"`
	Estimate int64    `json:"estimate"`
	Seconds  float64  `json:"seconds"`
	Best     []string `json:"best,omitempty"`
}

// sample is the last line.
type sample struct {
	Kind    string  `json:"kind"`
	Files   int     `json:"files"`
	Size    int64   `json:"size"`
	Sampled int     `json:"sampled"`
	Packed  int64   `json:"packed"`
	Off     float64 `json:"off"`
}

// Lines are one for each way, then one for the files.
func (w *Weighed) Lines(_ fault.Wording) iter.Seq[any] {
	return func(yield func(any) bool) {
		for i := range w.Ways {
			m := &w.Ways[i]
			if !yield(way{"way", m.Name, m.Format, m.Method, m.Level, m.Size, m.Estimate, m.Took.Seconds(), m.Best()}) {
				return
			}
		}
		yield(sample{"sample", w.Files, w.Size, w.Sampled, w.Packed, w.Off})
	}
}
