package disposal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// A Keeper keeps what is about to be replaced: a second name of it, or where the file system has
// none, or is another, a copy. It is there before anything is replaced, whatever happens then.
type Keeper struct {
	Folder string // empty: nothing is kept

	kept []string // since the last Settled or Back
}

// Keep keeps a file or link under a path below the folder, and returns where: under a number,
// where something else has that path.
func (k *Keeper) Keep(path, rel string) (string, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return "", fault.Reading(path, err)
	}
	target := filepath.Join(k.Folder, rel)
	for n := 1; ; n++ {
		to := filepath.Join(filepath.Dir(target), place.Numbered(filepath.Base(target), n))
		err := second(path, to, info)
		switch {
		case err == nil:
			k.kept = append(k.kept, to)
			return to, nil
		case SameEntry(blob.File{Path: path, Info: info}, to): // its own name, which keeps nothing
		case sameFile(to, info): // by a run that was killed before it replaced anything
			return to, nil
		case !errors.Is(err, fs.ErrExist) && !errors.Is(err, fault.Refused):
			return "", fault.Writing(to, err)
		}
	}
}

// KeepAll keeps all that is in a folder, and returns where the folder is kept.
func (k *Keeper) KeepAll(path, rel string) (string, error) {
	top := ""
	for n := 1; top == ""; n++ {
		at := filepath.Join(k.Folder, filepath.Dir(rel), place.Numbered(filepath.Base(rel), n))
		if _, err := os.Lstat(at); errors.Is(err, fs.ErrNotExist) {
			top = at
		} else if err != nil {
			return "", fault.Writing(at, err)
		}
	}
	err := filepath.WalkDir(path, func(at string, d fs.DirEntry, err error) error {
		if err != nil || place.IsStaging(d.Name()) {
			return fault.Reading(at, err)
		}
		to := filepath.Join(top, place.Below(path, at))
		if d.IsDir() {
			return within(to, func() error { return nil })
		}
		info, err := d.Info()
		if err == nil {
			err = second(at, to, info)
		}
		if err == nil {
			k.kept = append(k.kept, to)
		}
		return fault.Writing(to, err)
	})
	return top, err
}

// second makes a second name, or a copy, in a folder that is made where it is missing.
func second(path, to string, info fs.FileInfo) error {
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(path)
		if err == nil {
			err = within(filepath.Dir(to), func() error { return os.Symlink(target, to) })
		}
		return err
	}
	if err := within(filepath.Dir(to), func() error { return os.Link(path, to) }); err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	return copyTo(path, to)
}

func sameFile(path string, info fs.FileInfo) bool {
	there, err := os.Lstat(path)
	return err == nil && os.SameFile(there, info)
}

// Settled is called when everything was replaced.
func (k *Keeper) Settled() { k.kept = nil }

// Back lets go of what was kept, where nothing was replaced after all.
func (k *Keeper) Back() {
	for _, path := range k.kept {
		_ = os.Remove(path) // it is still at its place
	}
	k.kept = nil
}

// Reinstate puts what was kept in the place of the file that replaced it, in one step where both are
// on one file system. That file is as it was when it was looked at.
func Reinstate(kept string, over blob.File) error {
	if err := Unchanged([]blob.File{over}); err != nil {
		return err
	}
	err := folder.Patient(func() error { return os.Rename(kept, over.Path) })
	elsewhere := errors.Is(err, syscall.EXDEV) || filepath.VolumeName(kept) != filepath.VolumeName(over.Path)
	if err == nil || !elsewhere {
		return fault.Writing(over.Path, err)
	}
	if err := remove(over.Path); err != nil {
		return fault.Writing(over.Path, err)
	}
	_, err = Restore(kept, over.Path, false)
	return err
}

// Restore moves a file that was kept back to its place, where nothing must be, and reports
// whether it did, or in a dry run would: it may be there already.
func Restore(kept, to string, dryRun bool) (restored bool, err error) {
	info, missing := os.Lstat(kept)
	_, err = os.Lstat(to)
	switch {
	case missing != nil && err == nil:
		return false, nil
	case missing != nil:
		return false, fault.At(kept, fault.New(fault.Refused, "%w", &Stays{"it is not there any more, where it was kept"}))
	case dryRun:
		return true, nil
	case err == nil:
		same, err := blob.EqualFiles(blob.File{Path: kept, Info: info}, blob.File{Path: to})
		if err != nil || !same {
			return false, existing(to)
		}
		return true, fault.Writing(kept, remove(kept))
	case info.Mode()&fs.ModeSymlink != 0:
		if err := second(kept, to, info); err != nil {
			return false, fault.Writing(to, err)
		}
		return true, fault.Writing(kept, remove(kept))
	}
	return true, move(kept, to)
}
