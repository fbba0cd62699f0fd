package disposal

import (
	"errors"
	"io/fs"
	"os"
	"time"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/storage"
)

// A Source is a file that was moved when it was done with, or removed because the same lay there.
type Source struct {
	From, To string
	SHA256   string // in hexadecimal; empty: the other two have to do, of what lies at a server
	Size     int64
	Modified time.Time
	Copy     bool // To was there before, and stays
}

// is reports whether something is that file.
func (f *Source) is(s *Seen) bool {
	if f.SHA256 == "" && storage.IsFar(s.FileInfo) {
		return s.Size() == f.Size && s.ModTime().Equal(f.Modified)
	}
	return s.Is(f.SHA256)
}

// Return brings it back to where it was, and reports whether it did, or in a dry run would: it may be there already. Of
// kind fault.Refused are that it is not what was moved (and Stays), and that something is in its place.
func (g *Ground) Return(source *Source, dryRun bool) (returned bool, err error) {
	moved, missing := g.See(source.To)
	there, free := g.See(source.From)
	for path, err := range map[string]error{source.To: missing, source.From: free} {
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false, fault.Reading(path, err)
		}
	}
	back := free == nil && source.is(there)
	switch {
	case back && (missing != nil || source.Copy || sameEntry(moved, there)):
		return false, nil
	case missing != nil:
		return false, fault.At(source.To, fault.New(fault.Refused, "%w", &Stays{"it is not there any more, where it was moved"}))
	case !source.is(moved):
		return false, fault.At(source.To, fault.New(fault.Refused, "%w", &Stays{"it changed since it was moved there"}))
	case free == nil && !back:
		return false, Existing(source.From)
	case dryRun:
		return true, nil
	case back: // a run was killed between the two steps of a move
		return true, g.TakeAway(moved)
	case source.Copy:
		return true, g.CopyTo(moved, source.From)
	}
	return true, g.Move(moved, source.From)
}

// sameEntry reports whether two paths could be of one entry of a folder: of one file that has no second name.
func sameEntry(a, b *Seen) bool {
	_, several, known := folder.IDOf(a.Path, a.FileInfo)
	return os.SameFile(a.FileInfo, b.FileInfo) && !(several && known)
}
