// Package parts deals with files that are one whole cut into several: it finds
// the parts of a set by their names, puts them into order, says what is missing
// or wrong, reads them as one without joining them, joins them, and writes new
// sets. It knows of archives only what it needs to tell a part from a whole.
package parts

import (
	"fmt"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/storage"
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
	blob.File // where the part lies, or should; without Info it is missing, or Err says why it is of no use
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
			names = append(names, storage.Base(p.Path))
		}
	}
	return names
}

// Layout is what readers need to know of the parts.
func (s *Set) Layout() archive.Parts {
	layout := make(archive.Parts, len(s.Parts))
	var start int64
	for i, p := range s.Parts {
		layout[i] = archive.Part{Name: storage.Base(p.Path), Start: start, Size: p.size()}
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

// Shorten lists names for people; of very many, the first few.
func Shorten(names []string) string {
	const most = 5
	if more := len(names) - most; more > 1 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), more)
	}
	return strings.Join(names, ", ")
}
