package disposal

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// A Ground is where something may be taken away, and put: below some folders, through which a link may lead. Nothing
// else is removed, moved or made, and no link below them is followed. What is looked at there is acted on through
// handles, after a second look: whatever becomes of a folder in between, only what was seen goes. A Ground is not for
// several goroutines.
type Ground struct {
	roots []string // absolute
	ways  map[way]*folder.Descent
}

// way is one of the two that a move needs: from a root, and to one.
type way struct {
	root string
	to   bool
}

// NewGround is that of folders, by their absolute paths.
func NewGround(roots []string) *Ground { return &Ground{roots, map[way]*folder.Descent{}} }

// Close lets go of all folders.
func (g *Ground) Close() {
	for _, d := range g.ways {
		d.Close()
	}
	g.ways = map[way]*folder.Descent{}
}

// rootOf is the innermost of the folders that a path lies below; empty: there is none.
func (g *Ground) rootOf(path string) (root string) {
	if !filepath.IsAbs(path) || filepath.Clean(path) != path {
		return ""
	}
	for _, r := range g.roots {
		if rel, below := strings.CutPrefix(path, r); below && rel != "" && len(r) > len(root) && (os.IsPathSeparator(rel[0]) || os.IsPathSeparator(r[len(r)-1])) {
			root = r
		}
	}
	return root
}

// below is a path from a root on.
func below(root, path string) string {
	return strings.TrimLeft(path[len(root):], string(filepath.Separator))
}

// at opens the folder of a path, and says what the last name there is.
func (g *Ground) at(path string, to, create bool) (dir *folder.Folder, name string, err error) {
	root := g.rootOf(path)
	if root == "" {
		return nil, "", fault.At(path, fault.New(fault.Refused, "it lies in none of the folders that the run named").Advise("nothing is done there"))
	}
	w := way{root, to}
	d := g.ways[w]
	if d == nil {
		if create {
			if _, err := folder.MakeAll(root); err != nil {
				return nil, "", err
			}
		}
		if d, err = folder.Descend(root); err != nil {
			return nil, "", err
		}
		g.ways[w] = d
	}
	rel := below(root, path)
	if dir, err = d.To(filepath.Dir(rel), create); errors.Is(err, folder.ErrLink) {
		link, _ := errors.AsType[*fs.PathError](err)
		err = fault.New(fault.Refused, "the folder %s is a link now", filepath.Join(root, link.Path))
	}
	return dir, filepath.Base(rel), err
}

// Seen is a file or link, as it was looked at. Its methods use the Ground that it was seen on.
type Seen struct {
	Path string // absolute
	fs.FileInfo
	ground *Ground
}

// See looks at a path. Where nothing is, the error is fs.ErrNotExist; what lies elsewhere, or behind a
// link, is of kind fault.Refused; other errors are those of the system.
func (g *Ground) See(path string) (*Seen, error) {
	dir, name, err := g.at(path, false, false)
	if err != nil {
		return nil, err
	}
	info, err := dir.Lstat(name)
	if err != nil {
		return nil, err
	}
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	return &Seen{path, info, g}, nil
}

// again looks at it once more, in a folder that is open. Anything else that is there now is of kind
// fault.Refused, and Stays.
func (s *Seen) again(g *Ground) (dir *folder.Folder, name string, err error) {
	if dir, name, err = g.at(s.Path, false, false); err != nil {
		return nil, "", fault.Reading(s.Path, err)
	}
	now, err := dir.Lstat(name)
	if err != nil || !(blob.File{Info: s.FileInfo}).Is(now) {
		return nil, "", fault.At(s.Path, fault.New(fault.Refused, "%w", &Stays{"it changed since it was looked at"}))
	}
	return dir, name, nil
}

// Link is the path that a link leads to.
func (s *Seen) Link() (string, error) {
	dir, name, err := s.ground.at(s.Path, false, false)
	if err != nil {
		return "", err
	}
	return dir.Readlink(name)
}

// open opens a file, which is that.
func (s *Seen) open(g *Ground) (*os.File, error) {
	dir, name, err := g.at(s.Path, false, false)
	if err != nil {
		return nil, err
	}
	f, err := dir.OpenToRead(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !(blob.File{Info: s.FileInfo}).Is(info) {
		f.Close()
		return nil, fault.New(fault.Refused, "%w", &Stays{"it changed since it was looked at"})
	}
	return f, nil
}

// SHA256 is the sum of a file, or of the path that a link leads to, in hexadecimal. Anything else has
// none, which is of kind fault.Refused.
func (s *Seen) SHA256() (string, error) {
	switch {
	case s.Mode()&fs.ModeSymlink != 0:
		target, err := s.Link()
		return sumOf(target), err
	case !s.Mode().IsRegular():
		return "", fault.New(fault.Refused, "it is neither a file nor a link")
	}
	f, err := s.open(s.ground)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum, err := blob.Sum(f)
	return hex.EncodeToString(sum), err
}

// Is reports whether a file or link has that sum.
func (s *Seen) Is(sum string) bool {
	is, err := s.SHA256()
	return err == nil && sum != "" && is == sum
}

// equals reports whether two files have the same bytes.
func (s *Seen) equals(other *Seen) (bool, error) {
	if !other.Mode().IsRegular() || s.Size() != other.Size() {
		return false, nil
	}
	a, err := s.open(s.ground)
	if err != nil {
		return false, fault.Reading(s.Path, err)
	}
	defer a.Close()
	b, err := other.open(other.ground)
	if err != nil {
		return false, fault.Reading(other.Path, err)
	}
	defer b.Close()
	same, err := blob.Equal(a, b)
	return same, fault.Reading(s.Path, err)
}

func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Proof is Seen.SHA256 of what is at a path, wherever that is. Errors are those of the system, or of kind
// fault.Refused.
func Proof(path string) (string, error) { return proof(path, (*Seen).SHA256) }

func proof(path string, sum func(*Seen) (string, error)) (string, error) {
	path = place.Absolute(path)
	g := NewGround([]string{filepath.Dir(path)})
	defer g.Close()
	s, err := g.See(path)
	if err != nil {
		return "", err
	}
	return sum(s)
}

// TakeAway removes what was seen.
func (g *Ground) TakeAway(s *Seen) error {
	dir, name, err := s.again(g)
	if err == nil {
		err = fault.Writing(s.Path, dir.Remove(name))
	}
	return err
}

// Move moves what was seen to a path where nothing is, to another file system too, and makes the folder if it
// is missing. What is there already is of kind fault.Refused; with any error, it stays where it is.
func (g *Ground) Move(s *Seen, to string) error { return g.move(s, to, nil) }

// Replace is Move to where something else was seen, which goes in that moment.
func (g *Ground) Replace(s, over *Seen) error {
	if os.SameFile(s.FileInfo, over.FileInfo) {
		return fault.At(over.Path, fault.New(fault.Refused, "%w", &Stays{"it is another name of " + s.Path + ", and would be lost"}))
	}
	return g.move(s, over.Path, over)
}

func (g *Ground) move(s *Seen, to string, over *Seen) error {
	from, name, err := s.again(g)
	if err != nil {
		return err
	}
	return g.in(to, func(dir *folder.Folder, toName string) error {
		ready := func() error {
			if over == nil {
				return nil
			}
			if now, err := dir.Lstat(toName); err != nil || !(blob.File{Info: over.FileInfo}).Is(now) {
				return fault.At(to, fault.New(fault.Refused, "%w", &Stays{"it changed since it was looked at"}))
			}
			return nil
		}
		if err := ready(); err != nil {
			return err
		}
		err := folder.Patient(func() error { return from.MoveTo(name, dir.Handle, toName, over != nil) })
		if !errors.Is(err, syscall.EXDEV) && (err == nil || filepath.VolumeName(s.Path) == filepath.VolumeName(to)) {
			return err
		}
		// Both are there for a moment, never neither; the other disk may lose the name while this one does not.
		if err = g.copyTo(s, dir, toName, to, over != nil, ready); err == nil {
			err = syncFolder(filepath.Dir(to))
		}
		if err != nil {
			return err
		}
		if err = g.TakeAway(s); err != nil && over == nil {
			if _, _, there := s.again(g); there == nil { // it stays there, and only there
				_ = dir.Remove(toName)
			}
		}
		return err
	})
}

// in does something in the folder of a path, which is made where it is missing, also where others make and remove the
// same folder at the same time.
func (g *Ground) in(path string, do func(dir *folder.Folder, name string) error) error {
	err := folder.Again(func() error {
		dir, name, err := g.at(path, true, true)
		if err == nil {
			err = do(dir, name)
		}
		if errors.Is(err, fs.ErrNotExist) { // a folder has vanished
			g.leave(way{g.rootOf(path), true})
		}
		return err
	})
	if errors.Is(err, fs.ErrExist) {
		return Existing(path)
	}
	return fault.Writing(path, err)
}

// leave lets go of what is open on a way.
func (g *Ground) leave(w way) {
	if d := g.ways[w]; d != nil {
		d.Close()
		delete(g.ways, w)
	}
}

// CopyTo is Move, but for what stays where it is, too.
func (g *Ground) CopyTo(s *Seen, to string) error {
	return g.in(to, func(dir *folder.Folder, name string) error {
		return g.copyTo(s, dir, name, to, false, func() error { return nil })
	})
}

// Second makes a second name of what was seen, or where the file system has none, or is another, a copy. A path that is
// taken is of kind fault.Refused.
func (g *Ground) Second(s *Seen, to string) error {
	from, name, err := s.again(g)
	if err != nil {
		return err
	}
	return g.in(to, func(dir *folder.Folder, toName string) error {
		if s.Mode()&fs.ModeSymlink == 0 {
			if err := from.LinkTo(name, dir.Handle, toName); err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		return g.copyTo(s, dir, toName, to, false, func() error { return nil })
	})
}

// Write makes a file by way of a hidden one. A path that is taken is of kind fault.Refused.
func (g *Ground) Write(to string, modified time.Time, fill func(out *os.File) error) error {
	return g.in(to, func(dir *folder.Folder, name string) error {
		return write(dir, name, to, modified, false, func() error { return nil }, fill)
	})
}

// write makes a file in a folder, under a hidden name first. ready is asked before it gets its own.
func write(dir *folder.Folder, name, to string, modified time.Time, replace bool, ready func() error, fill func(out *os.File) error) error {
	claim.ClearDead(dir, filepath.Dir(to))
	prefix, out, lease, err := claim.Begin(dir, 0o600)
	if err != nil {
		return err
	}
	defer lease.Close()
	draft := claim.Hidden(prefix, 0)
	if err = fill(out); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = dir.SetTime(draft, modified)
	}
	if err == nil {
		err = ready()
	}
	if err == nil {
		err = dir.MoveTo(draft, dir.Handle, name, replace)
	}
	if err != nil {
		_ = dir.Remove(draft) // the first error says what is wrong
	}
	return err
}

// copyTo copies what was seen into a folder.
func (g *Ground) copyTo(s *Seen, dir *folder.Folder, name, to string, replace bool, ready func() error) error {
	if s.Mode()&fs.ModeSymlink == 0 {
		return write(dir, name, to, s.ModTime(), replace, ready, func(out *os.File) error { return s.fill(g, out) })
	}
	from, own, err := g.at(s.Path, false, false)
	if err != nil {
		return err
	}
	target, err := from.Readlink(own)
	if err != nil {
		return err
	}
	draft := claim.Hidden(claim.NewPrefix(), 1)
	if err = dir.Symlink(target, draft); err != nil {
		return err
	}
	if err = ready(); err == nil {
		err = dir.MoveTo(draft, dir.Handle, name, replace)
	}
	if err != nil {
		_ = dir.Remove(draft)
	}
	return err
}

// fill writes what a file holds to another, with its permissions.
func (s *Seen) fill(g *Ground, out *os.File) error {
	in, err := s.open(g)
	if err != nil {
		return err
	}
	defer in.Close()
	if _, err := io.Copy(out, in); err != nil {
		return err
	}
	return out.Chmod(s.Mode().Perm())
}

// A Source is a file that was moved when it was done with, or removed because the same lay there.
type Source struct {
	From, To string
	SHA256   string // in hexadecimal
	Copy     bool   // To was there before, and stays
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
	back := free == nil && there.Is(source.SHA256)
	switch {
	case back && (missing != nil || source.Copy || sameEntry(moved, there)):
		return false, nil
	case missing != nil:
		return false, fault.At(source.To, fault.New(fault.Refused, "%w", &Stays{"it is not there any more, where it was moved"}))
	case !moved.Is(source.SHA256):
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

// RemoveFolder removes a folder that is empty: one below the others, one of them, or one that they lie in. A folder in
// which something lies stays, and so does what is no folder.
func (g *Ground) RemoveFolder(path string) (err error) {
	dir, name := (*folder.Folder)(nil), filepath.Base(path)
	for w := range g.ways { // not every system removes what is open
		if w.to || place.Below(path, w.root) != w.root || path == w.root {
			g.leave(w)
		}
	}
	if slices.ContainsFunc(g.roots, func(root string) bool { return place.Below(path, root) != root || path == root }) {
		var above *folder.Descent
		if above, err = folder.Descend(filepath.Dir(path)); err == nil {
			defer above.Close()
			dir, err = above.To(".", false)
		}
	} else {
		dir, name, err = g.at(path, false, false)
	}
	if err == nil {
		err = dir.RemoveFolder(name)
	}
	if err == nil || isBusy(err) || errors.Is(err, syscall.ENOTDIR) || fault.Of(err) == fault.Refused {
		return nil
	}
	return fault.Writing(path, err)
}

// MakeFolder makes a folder where it is missing, with those above it.
func (g *Ground) MakeFolder(path string) error {
	dir, name, err := g.at(path, true, true)
	if err == nil {
		if err = dir.Mkdir(name, 0o777); errors.Is(err, fs.ErrExist) {
			err = nil
		}
	}
	return fault.Writing(path, err)
}

// Settle gives a folder permissions, and the time of another.
func (g *Ground) Settle(path string, perm fs.FileMode, like fs.FileInfo) error {
	dir, name, err := g.at(path, true, false)
	if err == nil {
		if info, err := dir.Lstat(name); err != nil || !info.IsDir() {
			return fault.Writing(path, err)
		}
		if err = dir.Chmod(name, perm); err == nil {
			err = dir.SetTime(name, like.ModTime())
		}
	}
	return fault.Writing(path, err)
}

// Removable makes sure that what was seen can be removed, as far as the system tells before that is tried.
func (g *Ground) Removable(s *Seen) error {
	dir, _, err := g.at(s.Path, false, false)
	if err == nil {
		err = dir.Removable()
	}
	return fault.Writing(filepath.Dir(s.Path), err)
}
