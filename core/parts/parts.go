// Package parts deals with files that are one whole cut into several: it finds
// the parts of a set by their names, puts them into order, says what is missing
// or wrong, reads them as one without joining them, joins them, and writes new
// sets. It knows of archives only what it needs to tell a part from a whole.
package parts

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"syscall"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Kind is how the parts of a set are named and cut.
type Kind uint8

// The kinds.
const (
	Numbered Kind = iota // name.001, name.002 …: cut anywhere
	Lettered             // name.aa, name.ab …: cut anywhere
	Named                // name.part1.ext, name_1of5.ext …: cut anywhere
	Split                // name.z01, name.z02 … name.zip: a split ZIP archive
)

var kindNames = [...]string{"numbered", "lettered", "named", "split ZIP"}

func (k Kind) String() string { return kindNames[k] }

// A Set is a whole that lies in several files.
type Set struct {
	Name  string // of the whole: survey.zip, survey.tar.gz
	Kind  Kind
	Parts []Part // in order; those that are missing have their places
	Total int    // how many there are, as far as they tell; 0: only the data does
}

// A Part is one of its files.
type Part struct {
	blob.File // where it lies, or should; without Info it is missing, or Err says why it is of no use
	Err       error
}

func (p *Part) size() int64 {
	if p.Info == nil {
		return 0
	}
	return p.Info.Size()
}

// Path is that of the part which is named when the set is spoken of: the last
// of a split ZIP archive, the first of another, as far as they are there.
func (s *Set) Path() string {
	if last := s.Parts[len(s.Parts)-1]; s.Kind == Split && last.Info != nil {
		return last.Path
	}
	for _, p := range s.Parts {
		if p.Info != nil {
			return p.Path
		}
	}
	return s.Parts[0].Path
}

// Size is that of all parts that are there, in bytes.
func (s *Set) Size() int64 {
	var sum int64
	for _, p := range s.Parts {
		sum += p.size()
	}
	return sum
}

// Found counts the parts that are there.
func (s *Set) Found() int { return len(s.Present()) }

// Present lists the paths of the parts that are there.
func (s *Set) Present() []string {
	var paths []string
	for _, p := range s.Parts {
		if p.Info != nil {
			paths = append(paths, p.Path)
		}
	}
	return paths
}

// Missing lists the names of the parts that are not there.
func (s *Set) Missing() []string {
	var names []string
	for _, p := range s.Parts {
		if p.Info == nil && p.Err == nil {
			names = append(names, filepath.Base(p.Path))
		}
	}
	return names
}

// Layout is what readers need to know of the parts.
func (s *Set) Layout() archive.Parts {
	layout := make(archive.Parts, len(s.Parts))
	var start int64
	for i, p := range s.Parts {
		layout[i] = archive.Part{Name: filepath.Base(p.Path), Start: start, Size: p.size()}
		start += p.size()
	}
	return layout
}

// Open makes a set readable as one. It must have passed Check.
func (s *Set) Open() *blob.Joined {
	files := make([]blob.File, len(s.Parts))
	for i, p := range s.Parts {
		files[i] = p.File
	}
	return blob.Join(files)
}

// Check says what is wrong with a set before any work: parts that are missing,
// empty, shorter than their siblings, or there twice. Its errors are of kind
// fault.Incomplete, or fault.Unreadable for a part that cannot be read.
func (s *Set) Check() error {
	for _, p := range s.Parts {
		if p.Err != nil {
			return p.Err
		}
	}
	if missing := s.Missing(); missing != nil {
		return s.incomplete("of %d parts, %d %s missing: %s", len(s.Parts), len(missing), isAre(len(missing)), Shorten(missing)).
			Suggest(fault.FindParts)
	}
	if s.Total > 0 && len(s.Parts) > s.Total {
		return s.incomplete("%s says that there are %d parts, and %s is of another set", filepath.Base(s.Parts[len(s.Parts)-1].Path), s.Total, filepath.Base(s.Parts[s.Total-1].Path)).
			Advise("move aside what is left of an earlier set")
	}
	if err := s.checkSizes(); err != nil {
		return err
	}
	return s.checkTwice()
}

func (s *Set) incomplete(format string, args ...any) *fault.Error {
	return fault.New(fault.Incomplete, format, args...)
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// Shorten lists names for people; of very many, the first few.
func Shorten(names []string) string {
	const most = 5
	if more := len(names) - most; more > 1 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), more)
	}
	return strings.Join(names, ", ")
}

// checkSizes: a whole is cut into pieces of one size, of which the last alone
// may be smaller. Records of a split ZIP archive that do not fit into the rest
// of a part begin the next, so that its parts may differ.
func (s *Set) checkSizes() error {
	last := len(s.Parts) - 1
	var largest int64
	for i, p := range s.Parts {
		if p.size() == 0 && (i < last || i == 0 || s.Kind == Split) { // some cut once more behind an end that fits
			return s.incomplete("part %d (%s) is empty", i+1, filepath.Base(p.Path)).
				Suggest(fault.WaitForParts)
		}
		if i < last {
			largest = max(largest, p.size())
		}
	}
	if s.Kind == Split {
		return nil
	}
	for i, p := range s.Parts[:last] {
		if p.size() < largest {
			return s.incomplete("part %d (%s) has %d bytes and others have %d: it is not complete", i+1, filepath.Base(p.Path), p.size(), largest).
				Suggest(fault.WaitForParts)
		}
	}
	if size := s.Parts[last].size(); last > 0 && size > largest {
		return s.incomplete("the last part (%s) has %d bytes, more than the %d of the others: it is of another set", filepath.Base(s.Parts[last].Path), size, largest).
			Advise("fetch the set again")
	}
	return nil
}

// unusable says why a file that has a part's name is none.
func unusable(path string, info fs.FileInfo, err error) error {
	name := filepath.Base(path)
	switch {
	case errors.Is(err, syscall.ELOOP):
		return fault.New(fault.Unreadable, "part %s is a symbolic link that leads back to itself", name)
	case err != nil:
		return fault.New(fault.Unreadable, "part %s cannot be read: %w", name, fault.Reading("", err))
	case info.IsDir():
		return fault.New(fault.Incomplete, "%s is a folder, where a part should be", name).Advise("fetch that part again")
	}
	return fault.New(fault.Unreadable, "part %s is neither a file nor a link to one", name)
}
