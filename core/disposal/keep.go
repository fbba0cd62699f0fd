package disposal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"widecrate/core/fault"
	"widecrate/core/place"
)

// A Keeper keeps what is about to be replaced: a second name of it, or where the file system has
// none, or is another, a copy. It is there before anything is replaced, whatever happens then.
type Keeper struct {
	Folder string // empty: nothing is kept

	kept []string // since the last Settled or Back
}

// Keep keeps a file or link under a path below the folder, and returns where: under a number,
// where something has that path, be it another name of the same file.
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
	var folders []kept
	err := filepath.WalkDir(path, func(at string, d fs.DirEntry, err error) error {
		if err != nil || place.IsStaging(d.Name()) {
			return fault.Reading(at, err)
		}
		to := filepath.Join(top, place.Below(path, at))
		info, err := d.Info()
		switch {
		case err != nil:
		case d.IsDir():
			folders = append(folders, kept{to, info})
			return within(to, func() error { return nil })
		default:
			if err = second(at, to, info); err == nil {
				k.kept = append(k.kept, to)
			}
		}
		return fault.Writing(to, err)
	})
	for _, f := range slices.Backward(folders) { // their owner can still take from them what is kept
		if err == nil {
			err = fault.Writing(f.path, errors.Join(os.Chmod(f.path, f.info.Mode().Perm()|0o700), os.Chtimes(f.path, time.Time{}, f.info.ModTime())))
		}
	}
	return top, err
}

// kept is a folder that is kept, as it was.
type kept struct {
	path string
	info fs.FileInfo
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

// Settled is called when everything was replaced.
func (k *Keeper) Settled() { k.kept = nil }

// Back lets go of what was kept, where nothing was replaced after all.
func (k *Keeper) Back() {
	for _, path := range k.kept {
		_ = os.Remove(path) // it is still at its place
	}
	k.kept = nil
}
