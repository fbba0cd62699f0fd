package disposal

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

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

// Existing is the error of what is in the way at a path: kind fault.Refused.
func Existing(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already"))
}

// remove removes a file that somebody may have open for a moment.
func remove(path string) error {
	return folder.Patient(func() error { return os.Remove(path) })
}

// isBusy reports whether a folder could not be removed because something is in it, or is
// gone already.
func isBusy(err error) bool { return errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) }
