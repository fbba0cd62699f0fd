// Package source finds the archives that a command works on, from the names it
// was given: those on disk, in one file or in the parts of a set, at addresses, and
// from standard input, and series of them that are one unit.
package source

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/remote"
)

// A Source is one archive, or a name that turned out not to be one. There may be millions, and
// most are a file on disk and nothing else.
type Source struct {
	Path string // as it was given, or below the folder that was given
	Sub  string // folders between the folder that was given and the archive, separated by slashes

	// Copies of a source share these: what they point at is not changed once it was found.
	to   *To   // nil: to where all go
	more *more // nil: nothing
}

// more is what few sources have.
type more struct {
	set     *parts.Set
	members []Source
	address *remote.Address
	input   io.Reader
	err     error
	listed  bool   // the address was found in a folder
	called  string // what the whole is called, where that is not the last part of the path
}

// New is the archive at a path; err says why it cannot be used, nil if it can.
func New(path string, err error) Source { return Source{Path: path}.Failed(err) }

// OfSet is the archive that lies in the parts of a set.
func OfSet(set *parts.Set) Source {
	return Source{Path: set.Path(), more: &more{set: set, called: set.Name}}
}

// OfInput is the archive that comes from a reader.
func OfInput(in io.Reader) Source {
	return Source{Path: inputName, more: &more{input: in}}
}

// below is the source in folders below the one that was given, and goes where that goes.
func (s Source) below(sub string, to To) Source {
	s.Sub = sub
	if s.to = nil; to != (To{}) {
		s.to = &to
	}
	return s
}

func (s Source) rest() more {
	if s.more == nil {
		return more{}
	}
	return *s.more
}

// Failed is the source with a reason why it cannot be used; nil: with none.
func (s Source) Failed(err error) Source {
	if err == nil && s.Err() == nil {
		return s
	}
	m := s.rest()
	m.err = err
	s.more = &m
	return s
}

// To is where it goes.
func (s Source) To() (to To) {
	if s.to != nil {
		to = *s.to
	}
	return to
}

// Set is the one in whose parts the archive lies; nil: the archive is one file.
func (s Source) Set() *parts.Set { return s.rest().set }

// Members are those of a series, whose pattern the path is then; nil: it is none.
func (s Source) Members() []Source { return s.rest().members }

// Address is that of the archive; nil: it has none.
func (s Source) Address() *remote.Address { return s.rest().address }

// Input is what the archive comes from; nil: it lies somewhere.
func (s Source) Input() io.Reader { return s.rest().input }

// Err is why the source cannot be used; nil if it can.
func (s Source) Err() error { return s.rest().err }

// To is where a source goes, and what is said for it alone.
type To struct {
	Into string // a destination root of its own; empty: none
	Own  *Own   // nil: nothing
}

// Own is what one source is asked for in place of what all are; empty: that.
type Own struct {
	Ext         string // a list, with commas
	Entry       string
	OwnName     string // a template
	PasswordEnv string
}

// String is its identity; empty: it says nothing.
func (o *Own) String() string {
	if o == nil {
		return ""
	}
	return strings.Join([]string{o.Ext, o.Entry, o.OwnName, o.PasswordEnv}, "\x00")
}

// key tells where a source goes from other places.
func (to To) key() string { return "\x00" + to.Into + "\x00" + to.Own.String() }

// Name is the last part of the path, or what the parts of a set and the members
// of a series have in common.
func (s Source) Name() string {
	switch {
	case s.rest().called != "":
		return s.rest().called
	case s.Address() != nil:
		return s.Address().Name()
	}
	return filepath.Base(s.Path)
}

// Elsewhere reports whether it lies somewhere else than on disk: at an address, or
// it comes from standard input.
func (s Source) Elsewhere() bool {
	return s.Address() != nil || s.Input() != nil || s.Set() != nil && s.Set().Elsewhere() || slices.ContainsFunc(s.Members(), Source.Elsewhere)
}

// Files are those that the source is read from, as they are now; none where they are not
// known. Errors are of kind fault.Unreadable.
func (s Source) Files(ctx context.Context) (files []blob.File, err error) {
	switch {
	case s.Err() != nil || s.Input() != nil:
		return nil, s.Err()
	case s.Members() != nil:
		for _, m := range s.Members() {
			of, err := m.Files(ctx)
			if err != nil || of == nil {
				return nil, err
			}
			files = append(files, of...)
		}
		return files, nil
	case s.Set() != nil:
		for _, p := range s.Set().Parts {
			files = append(files, p.File)
		}
		return files, nil
	case s.Address() != nil:
		f, err := blob.IdentifyAt(ctx, s.Address())
		return []blob.File{f}, err
	}
	f, err := blob.Find(s.Path)
	return []blob.File{f}, err
}

// OnDisk are the paths of those of its files that lie on disk.
func (s Source) OnDisk() (paths []string) {
	switch {
	case s.Members() != nil:
		for _, m := range s.Members() {
			paths = append(paths, m.OnDisk()...)
		}
		return paths
	case s.Elsewhere():
		return nil
	case s.Set() != nil:
		return s.Set().Present()
	}
	return []string{s.Path}
}

// Workers are how many work on sources at once where nobody says it: as many as
// there are processors, or as connections to addresses, which mostly wait.
func Workers(sources []Source) int {
	workers := runtime.GOMAXPROCS(0)
	if slices.ContainsFunc(sources, func(s Source) bool { return s.Address() != nil }) {
		workers = max(workers, 2*remote.DefaultConnections)
	}
	return workers
}

// Size is that of all its files, in bytes; 0 where it cannot be found out.
func (s Source) Size() int64 {
	switch {
	case s.Set() != nil:
		return s.Set().Size()
	case s.Members() != nil:
		var sum int64
		for _, m := range s.Members() {
			sum += m.Size()
		}
		return sum
	}
	if s.Address() != nil {
		size, _ := s.Address().Said()
		return max(size, 0)
	}
	if info, err := os.Stat(s.Path); err == nil && !s.Elsewhere() {
		return info.Size()
	}
	return 0
}

// CheckSums holds the parts of a set, or of the sets among the members of a series,
// against the lists of SHA-256 sums beside them, and all else against those that were given.
// It reads all that is listed. A wrong sum is of kind fault.Damaged; Err is returned as it is.
func (s Source) CheckSums(ctx context.Context, lists *parts.Lists) error {
	if s.Err() != nil {
		return s.Err()
	}
	for _, m := range s.Members() {
		if err := m.CheckSums(ctx, lists); err != nil {
			return fault.At(m.Path, err)
		}
	}
	if s.Set() != nil {
		_, err := lists.Check(ctx, s.Set())
		return err
	}
	if _, listed := lists.Given(s.Path); !listed || s.Members() != nil || s.Input() != nil {
		return nil
	}
	f, err := s.File(ctx)
	if err != nil {
		return err
	}
	return lists.CheckFile(ctx, f)
}

// File is the one file that it is read from, with a way to read it. Errors are of kind fault.Unreadable.
func (s Source) File(ctx context.Context) (blob.File, error) {
	if s.Address() != nil {
		return blob.FindAt(ctx, s.Address())
	}
	return blob.Find(s.Path)
}

// Listed reports whether one of the lists that were given names one of its files.
func (s Source) Listed(lists *parts.Lists) bool {
	if slices.ContainsFunc(s.Members(), func(m Source) bool { return m.Listed(lists) }) {
		return true
	}
	if s.Set() != nil {
		sums, err := lists.Of(s.Set())
		return err != nil || len(sums) > 0 // what is wrong with a list, the source says
	}
	_, listed := lists.Given(s.Path)
	return listed
}
