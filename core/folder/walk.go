package folder

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"widecrate/core/fault"
)

// A Step of a walk is a file, link or folder, as it was found.
type Step struct {
	fs.FileInfo
	Rel string // from where the walk began; "." is that itself

	link func(name string) (string, error)
	name string
}

// Link is the path that a link leads to.
func (s *Step) Link() (string, error) { return s.link(s.name) }

// Walk visits what is at a path, and all below it, each folder before what is in it and that in the order of the
// names, through handles: where a folder becomes a link meanwhile, what lies behind that is not visited. The path
// itself may lead through links. visit may return fs.SkipDir for a folder. What cannot be read is of kind
// fault.Unreadable.
func Walk(path string, visit func(*Step) error) error {
	info, err := os.Lstat(path)
	if err != nil {
		return fault.Reading(path, err)
	}
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	err = visit(&Step{info, ".", os.Readlink, path})
	if err != nil || !info.IsDir() {
		return skipped(err)
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return fault.Reading(path, err)
	}
	defer root.Close()
	return walk(root, info, path, "", visit)
}

func skipped(err error) error {
	if errors.Is(err, fs.SkipDir) {
		return nil
	}
	return err
}

// walk visits what is in a folder that is open, which is the one that was found.
func walk(dir *os.Root, found fs.FileInfo, path, rel string, visit func(*Step) error) error {
	full := filepath.Join(path, rel)
	in, err := dir.Open(".")
	if err != nil {
		return fault.Reading(full, err)
	}
	now, err := in.Stat()
	var names []string
	if err == nil {
		names, err = in.Readdirnames(-1)
	}
	in.Close()
	if err == nil && !os.SameFile(found, now) {
		err = fault.New(fault.Unreadable, "another folder has taken its place").Advise("run it again when nothing changes there any more")
	}
	if err != nil {
		return fault.Reading(full, err)
	}
	slices.Sort(names)
	for _, name := range names {
		below := filepath.Join(rel, name)
		info, err := dir.Lstat(name)
		if err != nil {
			return fault.Reading(filepath.Join(path, below), err)
		}
		_ = os.SameFile(info, info)
		if err := visit(&Step{info, below, dir.Readlink, name}); err != nil || !info.IsDir() {
			if err = skipped(err); err != nil {
				return err
			}
			continue
		}
		next, err := dir.OpenRoot(name)
		if err != nil {
			return fault.Reading(filepath.Join(path, below), err)
		}
		err = walk(next, info, path, below, visit)
		next.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
