package newfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// Move moves a file to a path where nothing is yet, to another file system too,
// and makes the folder if it is missing. What is there already is of kind
// fault.Refused, and the file then stays where it is.
func Move(from, to string) error {
	if _, err := MakeFolders(filepath.Dir(to)); err != nil {
		return fault.Writing(filepath.Dir(to), err)
	}
	// A hard link fails where something is, unlike a plain rename.
	err := os.Link(from, to)
	if errors.Is(err, fs.ErrExist) {
		return existing(to)
	}
	if err != nil {
		if err := copyTo(from, to); err != nil {
			return err
		}
	}
	return fault.Writing(from, remove(from))
}

// remove removes a file that somebody may have open for a moment.
func remove(path string) error {
	return folder.Patient(func() error { return os.Remove(path) })
}

// copyTo copies a file with its permissions and time.
func copyTo(from, to string) error {
	src, err := os.Open(from)
	if err != nil {
		return fault.Reading(from, err)
	}
	defer src.Close()
	info, err := src.Stat()
	if err != nil {
		return fault.Reading(from, err)
	}
	n, err := Create(to, false)
	if err != nil {
		return err
	}
	if _, err = io.Copy(n, src); err == nil {
		err = n.Chmod(info.Mode().Perm())
	}
	if err == nil {
		err = os.Chtimes(n.Name(), info.ModTime(), info.ModTime())
	}
	if err != nil {
		_ = n.Discard() // the first error says what is wrong
		return fault.Writing(to, err)
	}
	return n.Commit(false)
}

// MakeFolders makes a folder and those above it, and returns those that it made,
// outermost first, even with an error. A file in the way is of kind
// fault.Unwritable.
func MakeFolders(path string) (made []string, err error) {
	info, err := os.Stat(path)
	if err == nil && !info.IsDir() {
		return nil, fault.At(path, fault.New(fault.Unwritable, "it is a file, and a folder is needed there"))
	}
	if err == nil || filepath.Dir(path) == path {
		return nil, err
	}
	if made, err = MakeFolders(filepath.Dir(path)); err != nil {
		return made, err
	}
	if err := os.Mkdir(path, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
		return made, err
	}
	return append(made, path), nil
}

// TakeAway moves files to other paths, or removes those whose other path is empty:
// all of them, or none with an error, as far as the system lets them be put back. What a
// run that was killed leaves of that, FinishTaking finishes.
func TakeAway(files, to []string) error {
	clearDeadAt(filepath.Dir(files[0]))
	if len(files) == 1 && to[0] == "" {
		return fault.Writing(files[0], remove(files[0]))
	}
	aside, prefix := make([]string, len(files)), newPrefix()
	var journal taking
	for i, path := range files {
		one := taken{Path: path, To: to[i]}
		if aside[i] = to[i]; to[i] == "" { // removed when all are out of the way
			aside[i] = filepath.Join(filepath.Dir(path), fmt.Sprintf("%s-%d", prefix, i+1))
			one.Aside = aside[i]
		}
		info, err := os.Lstat(path)
		if err == nil {
			one.Size, one.Modified = info.Size(), info.ModTime()
			one.Path, err = filepath.Abs(path)
		}
		if err == nil && one.Aside != "" {
			one.Aside, err = filepath.Abs(one.Aside)
		}
		if err != nil {
			return fault.Reading(path, err)
		}
		journal.Files = append(journal.Files, one)
	}
	if len(files) > 1 {
		if err := journal.write(prefix); err != nil {
			return fault.Writing(files[0], err)
		}
		defer journal.end()
	}
	for i, path := range files {
		err := Move(path, aside[i])
		if err == nil {
			continue
		}
		for done := i - 1; done >= 0; done-- {
			err = errors.Join(err, Move(aside[done], files[done]))
		}
		return err
	}
	var failed error
	for i, path := range aside {
		if to[i] == "" {
			failed = errors.Join(failed, remove(path))
		}
	}
	return fault.Writing(files[0], failed)
}
