package disposal

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/storage"
)

// TakeAway removes what was seen.
func (g *Ground) TakeAway(s *Seen) error {
	dir, name, err := s.again(g)
	if err == nil {
		err = fault.Writing(s.Path, asStale(s.Path, dir.Remove(name, s.FileInfo)))
	}
	return err
}

// asStale is the error of a change, as that of a look.
func asStale(path string, err error) error {
	if errors.Is(err, storage.ErrStale) {
		return stale(path)
	}
	return err
}

// Move moves what was seen to a path where nothing is, to another file system too, and makes the folder if it
// is missing. What is there already is of kind fault.Refused; with any error, it stays where it is.
func (g *Ground) Move(s *Seen, to string) error { return g.move(s, to, nil) }

// Replace is Move to where something else was seen, which goes in that moment.
func (g *Ground) Replace(s, over *Seen) error {
	if os.SameFile(s.FileInfo, over.FileInfo) || s.Path == over.Path {
		return fault.At(over.Path, fault.New(fault.Refused, "%w", &Stays{"it is another name of " + s.Path + ", and would be lost"}))
	}
	return g.move(s, over.Path, over)
}

func (g *Ground) move(s *Seen, to string, over *Seen) error {
	from, name, err := s.again(g)
	if err != nil {
		return err
	}
	return g.in(to, func(dir storage.Folder, toName string) error {
		ready, move := free, from.Move
		if over != nil {
			move = from.MoveOver
			ready = func() error {
				if now, err := dir.Lstat(toName); err != nil || !(blob.File{Info: over.FileInfo}).Is(now) {
					return stale(to)
				}
				return nil
			}
		}
		if err := ready(); err != nil {
			return err
		}
		if err := move(name, s.FileInfo, dir, toName); !errors.Is(err, storage.ErrCrosses) {
			return asStale(s.Path, err)
		}
		// Both are there for a moment, never neither; the other disk may lose the name while this one does not.
		if err = g.copyTo(s, dir, toName, over != nil, ready); err == nil {
			err = syncFolder(storage.Dir(to))
		}
		if err != nil {
			return err
		}
		if err = g.TakeAway(s); err != nil && over == nil {
			if _, _, there := s.again(g); there == nil { // it stays there, and only there
				_ = dir.Remove(toName, nil)
			}
		}
		return err
	})
}

// free is ready where nothing is replaced.
func free() error { return nil }

// CopyTo is Move, but for what stays where it is, too.
func (g *Ground) CopyTo(s *Seen, to string) error {
	return g.in(to, func(dir storage.Folder, name string) error { return g.copyTo(s, dir, name, false, free) })
}

// Second makes a second name of what was seen, or where the place has none, or it is another, a copy. A path that is
// taken is of kind fault.Refused.
func (g *Ground) Second(s *Seen, to string) error {
	from, name, err := s.again(g)
	if err != nil {
		return err
	}
	return g.in(to, func(dir storage.Folder, toName string) error {
		if links, can := from.(storage.Linker); can && s.Mode()&fs.ModeSymlink == 0 {
			if err := links.Link(name, dir, toName); err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		return g.copyTo(s, dir, toName, false, free)
	})
}

// Write makes a file by way of a hidden one. A path that is taken is of kind fault.Refused.
func (g *Ground) Write(to string, modified time.Time, fill func(out storage.File) error) error {
	return g.in(to, func(dir storage.Folder, name string) error {
		return write(dir, name, modified, false, free, fill)
	})
}

// write makes a file in a folder, under a hidden name first. ready is asked before it gets its own.
func write(dir storage.Folder, name string, modified time.Time, replace bool, ready func() error, fill func(out storage.File) error) error {
	claim.ClearDead(dir)
	run, out, lease, err := claim.Begin(dir, 0o600)
	if err != nil {
		return err
	}
	defer lease.Close()
	draft := claim.Hidden(run, 0)
	if err = fill(out); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	if stamps, can := dir.(storage.Stamper); can && err == nil {
		err = stamps.SetTime(draft, modified)
	}
	return settle(dir, draft, name, replace, ready, err)
}

// settle gives a draft its name, or removes it where there was an error.
func settle(dir storage.Folder, draft, name string, replace bool, ready func() error, err error) error {
	if err == nil {
		err = ready()
	}
	move := dir.Move
	if replace {
		move = dir.MoveOver
	}
	if err == nil {
		err = move(draft, nil, dir, name)
	}
	if err != nil {
		_ = dir.Remove(draft, nil) // the first error says what is wrong
	}
	return err
}

// copyTo copies what was seen into a folder.
func (g *Ground) copyTo(s *Seen, dir storage.Folder, name string, replace bool, ready func() error) error {
	if s.Mode()&fs.ModeSymlink == 0 {
		return write(dir, name, s.ModTime(), replace, ready, func(out storage.File) error { return s.fill(g, out) })
	}
	links, can := dir.(storage.Linker)
	if !can {
		return errors.ErrUnsupported
	}
	target, err := s.Link()
	if err != nil {
		return err
	}
	draft := claim.Hidden(claim.NewRun(), 1)
	if err = links.Symlink(target, draft); err != nil {
		return err
	}
	return settle(dir, draft, name, replace, ready, nil)
}

// fill writes what a file holds to another, with its permissions.
func (s *Seen) fill(g *Ground, out storage.File) error {
	in, err := s.open(g)
	if err != nil {
		return err
	}
	defer in.Close()
	if _, err := io.Copy(out, in); err != nil {
		return err
	}
	return allow(out, s.Mode().Perm())
}

// allow gives a file permissions, where it has such.
func allow(out storage.File, perm fs.FileMode) error {
	if has, can := out.(interface{ Chmod(fs.FileMode) error }); can {
		return has.Chmod(perm)
	}
	return nil
}

// Existing is the error of what is in the way at a path: kind fault.Refused.
func Existing(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already"))
}

// isBusy reports whether a folder could not be removed because something is in it, or is
// gone already.
func isBusy(err error) bool { return errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) }
