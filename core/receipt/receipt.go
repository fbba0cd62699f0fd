// Package receipt keeps on disk what was done: JSON Lines, to which each run appends
// a line about itself, and for each archive one, followed by those of its files, with
// their SHA-256 sums. It finds from them what need not be done again, and whether what
// was delivered is still as it was. docs/json.md describes the lines.
package receipt

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// Run is the line of a run.
type Run struct {
	Kind    string            `json:"kind"`
	ID      string            `json:"run"`
	Version string            `json:"version"`
	Command string            `json:"command"`
	Options map[string]string `json:"options"` // that shape the result
	Started time.Time         `json:"started"`
	Job     string            `json:"job,omitempty"`   // the run of a job file that it is a part of
	Roots   []string          `json:"roots,omitempty"` // the folders that it may write to, absolute
}

// Unit is the line of an archive that was unpacked, with all inside it, or made. So
// many lines of files follow it.
type Unit struct {
	Kind        string          `json:"kind"`
	Run         string          `json:"run"`
	ID          string          `json:"id,omitempty"` // of the files in From; see ID
	Files       int             `json:"files"`        // lines that follow
	Archive     string          `json:"archive"`
	From        []Part          `json:"from,omitempty"`  // the files that the archive was read from
	Parts       []Part          `json:"parts,omitempty"` // the files that the archive was written to
	Root        string          `json:"root,omitempty"`  // of the paths of its files; empty: they are paths in the archive
	Destination string          `json:"destination,omitempty"`
	Folders     []string        `json:"folders,omitempty"` // that were made, below the root; those that they are made of on the way to files are not named
	Held        []string        `json:"held,omitempty"`    // of an archive that was made: folders on disk that are in it
	Gone        []Part          `json:"gone,omitempty"`    // what went beside: parts of an earlier set, files of a folder that was swapped
	Edited      bool            `json:"edited,omitempty"`  // the archive was there before
	Swapped     string          `json:"swapped,omitempty"` // where the folder is kept that was swapped for this one
	List        *Part           `json:"list,omitempty"`    // of the sums of Parts
	Written     int             `json:"written"`
	Bytes       int64           `json:"bytes"`
	Same        int             `json:"same,omitempty"`
	Skipped     int             `json:"skipped,omitempty"`
	Lost        int             `json:"lost,omitempty"`
	LeftOut     map[string]int  `json:"left_out,omitempty"`
	Dates       *choose.Window  `json:"dates,omitempty"`   // what a choice by dates came to
	Partial     bool            `json:"partial,omitempty"` // something in the archive, clutter aside, was not delivered
	Finished    time.Time       `json:"finished"`
	Failure     *report.Failure `json:"failure,omitempty"`
}

// Part is the identity of a file, or of what lies at an address.
type Part struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified,omitzero"`
	Tag      string    `json:"etag,omitempty"`
	SHA256   string    `json:"sha256,omitempty"`
	Replaced bool      `json:"replaced,omitempty"` // of what was written: it took the place of another
	Was
}

// Was is what a file has taken the place of, where that is kept.
type Was struct {
	Kept       string `json:"kept,omitempty"`        // its path
	KeptSHA256 string `json:"kept_sha256,omitempty"` // of a link, that of the path that it leads to
}

type plainPart Part

// MarshalJSON keeps paths that are no UTF-8; see report.Marshal.
func (p Part) MarshalJSON() ([]byte, error) { return report.Marshal(plainPart(p)) }

// UnmarshalJSON is its reverse.
func (p *Part) UnmarshalJSON(b []byte) error { return report.Unmarshal(b, (*plainPart)(p)) }

// File is the line of a file or link that was delivered, or packed.
type File struct {
	Kind     string    `json:"kind"`
	Run      string    `json:"run"`
	Archive  string    `json:"archive"`
	Path     string    `json:"path"`            // below the root, or in the archive, with slashes
	Entry    string    `json:"entry,omitempty"` // of what was unpacked: the path in the archive
	Type     string    `json:"type"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified,omitzero"`
	SHA256   string    `json:"sha256,omitempty"`
	Link     string    `json:"link,omitempty"`
	Source   string    `json:"source,omitempty"`   // of what was packed: the file
	Same     bool      `json:"same,omitempty"`     // it was there already
	Replaced bool      `json:"replaced,omitempty"` // it took the place of another
	Was
}

// Moved is the line of a file of a source that was moved in the end.
type Moved struct {
	Kind     string    `json:"kind"`
	Run      string    `json:"run"`
	From     string    `json:"from"`
	To       string    `json:"to"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	SHA256   string    `json:"sha256,omitempty"`
	There    bool      `json:"there,omitempty"` // the same was there before: the source was removed

	Reason       string `json:"reason,omitempty"`        // the file beside it that says why it failed
	ReasonSHA256 string `json:"reason_sha256,omitempty"` // without its first line, which says when
}

// Undone is the line of a unit that was taken back.
type Undone struct {
	Kind        string `json:"kind"`
	Run         string `json:"run"` // that took it back
	Of          string `json:"of"`  // the run of the unit
	Archive     string `json:"archive"`
	Destination string `json:"destination,omitempty"`
}

// The kinds of line.
const (
	runKind    = "run"
	unitKind   = "unit"
	fileKind   = "file"
	movedKind  = "moved"
	undoneKind = "undone"
)

// Is reports whether what is found at an address now is still that: by its tag, if there is one,
// else by its time.
func (p *Part) Is(now blob.File) bool {
	if p.Size >= 0 && now.Size() >= 0 && now.Size() != p.Size {
		return false
	}
	if p.Tag != "" {
		return strings.TrimPrefix(now.Tag, "W/") == strings.TrimPrefix(p.Tag, "W/")
	}
	return now.Info.ModTime().UTC().Equal(p.Modified)
}

// partsOf are the identities of files, with absolute paths, and their sums where they are known.
func partsOf(files []blob.File) []Part {
	parts := make([]Part, len(files))
	for i, f := range files {
		parts[i].Path, parts[i].Tag = f.Path, f.Tag
		if !filepath.IsAbs(f.Path) { // of very many
			parts[i].Path = storage.Absolute(f.Path)
		}
		parts[i].Size, parts[i].Modified, parts[i].SHA256 = f.Info.Size(), f.Info.ModTime().UTC(), hex.EncodeToString(f.SHA256)
	}
	return parts
}

// ID stands for files as they are, and the destination of what they hold; empty
// where nothing would say that one of them changed. The time of what has a tag does
// not count.
func ID(files []blob.File, target string) string {
	sum := sha256.New()
	for _, p := range partsOf(files) {
		if p.Tag != "" {
			p.Modified = time.Time{}
		} else if p.Modified.IsZero() {
			return ""
		}
		fmt.Fprintf(sum, "%q %d %d %q\n", p.Path, p.Size, p.Modified.UnixNano(), p.Tag)
	}
	fmt.Fprintf(sum, "%q\n", target)
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// line is a value as one.
func line(v any) []byte {
	b, err := report.Marshal(v)
	if err != nil { // texts and numbers are all that there is
		panic(err)
	}
	return append(b, '\n')
}
