// Package disposal takes away what was there before a run: sources, folders that are
// swapped, files and archives that are replaced. Nothing else in the core does, as
// core/disposal_test.go holds. It needs evidence each time: what goes is still what the
// run has seen (the same file, of the same size and time), what takes its place is there
// as it was delivered, and nothing that must stay lies in it.
package disposal

import (
	"context"
	"io/fs"
	"os"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/storage"
)

// A Record is what was delivered at a path, as it was found there after its commit.
type Record struct {
	Path     string
	id       folder.ID
	size     int64
	modified int64

	far *far // nil: the others tell all that is known
}

// far is what a server said of it.
type far struct {
	sites storage.Sites
	info  fs.FileInfo
}

// Note makes a record. Errors are of kind fault.Unwritable: it should be there.
func Note(sites storage.Sites, path string) (Record, error) {
	info, err := sites.Lstat(path)
	switch {
	case err != nil:
		return Record{}, fault.Unwritten(path, err)
	case storage.IsFar(info):
		return Record{Path: path, far: &far{sites, info}}, nil
	}
	return recordOf(path, info), nil
}

func recordOf(path string, info fs.FileInfo) Record {
	r := Record{Path: path, size: info.Size(), modified: info.ModTime().UnixNano()}
	r.id, _, _ = folder.IDOf(path, info)
	return r
}

// Holds reports whether what was delivered is still there as it was.
func (r Record) Holds() bool {
	if r.far != nil {
		now, err := r.far.sites.Lstat(r.Path)
		return err == nil && (blob.File{Info: r.far.info}).Is(now)
	}
	info, err := os.Lstat(r.Path)
	return err == nil && recordOf(r.Path, info) == r
}

// Stays is why a file is not taken away, for people.
type Stays struct{ Why string }

func (s *Stays) Error() string { return s.Why }

// Unchanged makes sure that files are still what the run has seen. Those that are not are
// of kind fault.Refused, and Stays.
func Unchanged(ctx context.Context, files []blob.File) error {
	for _, f := range files {
		now, err := storage.Of(ctx, f).Lstat(f.Path)
		why := ""
		switch {
		case Unanswered(err):
			return err
		case err != nil:
			why = "it is not there any more"
		case f.Info.Mode()&fs.ModeSymlink == 0 && now.Mode()&fs.ModeSymlink != 0:
			why = "it is a link to an archive elsewhere"
		case !f.Is(now):
			why = "it changed since it was read"
		}
		if why != "" {
			return fault.At(f.Path, fault.New(fault.Refused, "%w", &Stays{why}))
		}
	}
	return nil
}

// Packed removes files, links and folders that were packed, after a look at all of them:
// all are still as they were, and the archive is as it was recorded. What lies below one of the roots is
// reached from there through no link. A folder in which something new lies stays. It returns how many
// files and links went; with an error that is of kind fault.Refused, none.
func Packed(roots []string, files []blob.File, folders []string, archive []Record) (removed int, err error) {
	for _, r := range archive {
		if !r.Holds() {
			return 0, fault.At(r.Path, fault.New(fault.Refused, "%w", &Stays{"the archive is not there as it was made"}))
		}
	}
	const do = "the archive is complete; remove what is left of the sources yourself"
	g := NewGround(storage.Sites{}, roots)
	defer g.Close()
	seen := make([]*Seen, len(files))
	for i, f := range files {
		if seen[i], err = g.See(f.Path); err != nil || !f.Is(seen[i].FileInfo) {
			return 0, fault.At(f.Path, fault.New(fault.Refused, "%w", &Stays{"it changed since it was read"}))
		}
	}
	for _, s := range seen {
		if err := g.TakeAway(s); err != nil {
			return removed, notRemoved(s.Path, err, do)
		}
		removed++
	}
	for _, path := range folders {
		if err := g.RemoveFolder(path); err != nil {
			return removed, notRemoved(path, err, do)
		}
	}
	return removed, nil
}

func notRemoved(path string, err error, do string) error {
	return fault.At(path, fault.New(fault.Unwritable, "it could not be removed, and those after it were not: %w", fault.Bare(err)).Advise(do))
}

// Replaced lets go of a file that a merge has replaced and kept in its area: the new one
// is seen at its place. Where it is not, the old one goes back there.
func Replaced(area *folder.Folder, kept string, to *folder.Folder, name string) error {
	if to.Free(name) {
		return area.MoveTo(kept, to.Handle, name, false)
	}
	return area.Remove(kept)
}

// Swapped removes a folder that was swapped for a new one, which is known by its identity
// and seen at the old place. Where it is not, the old one goes back there, or stays in the area
// if something else has the place: then the error says so, and the area has to be kept. What
// cannot be removed of it goes with the area, later.
func Swapped(area *folder.Folder, old string, to *folder.Folder, name, identity string) (kept bool, err error) {
	now, err := folder.Open(to.Root, name)
	if err == nil {
		var is string
		is, err = now.Identity()
		now.Close()
		if err == nil && is == identity {
			_ = area.Clear(old)
			return false, nil
		}
	}
	if to.Free(name) && area.MoveTo(old, to.Handle, name, false) == nil {
		return false, fault.New(fault.Unwritable, "the new folder was taken away at once, and the old one is back")
	}
	return true, fault.New(fault.Unwritable, "something else took the place of the new folder at once, and the old one is %s", old)
}
