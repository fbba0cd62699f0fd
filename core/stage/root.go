// Package stage puts files where they belong, whole or not at all. What an
// archive brings is first written to a hidden folder in the destination root,
// and moved into place when all of it is there and nothing stands in its way.
// Every file is reached through a handle on the root, so that nothing can be
// made outside it. Which files, and where, is the caller's decision.
package stage

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// prefix starts the names of staging folders.
const prefix = ".widecrate-"

// A Root is a destination root with its staging folder.
type Root struct {
	path    string
	root    *os.Root
	home    *folder // the root itself
	staging *folder
	name    string   // of the staging folder, below the root
	made    []string // folders made on the way to the root, outermost first
	folds   bool     // the file system takes names for equal that differ in letter case
	units   atomic.Int64

	preview bool
	planned map[string]archive.Entry // what a preview would have put there
}

// Open opens the destination root, makes it if it is missing, and makes a
// staging folder in it. Errors are of kind fault.Unwritable.
func Open(path string) (*Root, error) {
	r := &Root{path: path}
	if err := r.open(); err != nil {
		r.Close()
		return nil, fault.Writing(path, err)
	}
	return r, nil
}

func (r *Root) open() error {
	if err := r.makeRoot(r.path); err != nil {
		return err
	}
	var err error
	if r.root, err = os.OpenRoot(r.path); err != nil {
		return err
	}
	if r.home, err = openFolder(r.root, "."); err != nil {
		return err
	}
	r.name = prefix + strings.ToLower(rand.Text()[:10])
	if err := r.root.Mkdir(r.name, 0o700); err != nil {
		return err
	}
	if r.staging, err = openFolder(r.root, r.name); err != nil {
		return err
	}
	_, err = r.root.Lstat(strings.ToUpper(r.name))
	r.folds = err == nil
	return nil
}

// makeRoot makes a folder and those above it, and remembers which it made.
func (r *Root) makeRoot(path string) error {
	info, err := os.Stat(path)
	if err == nil && !info.IsDir() {
		return fault.At(path, fault.New(fault.Unwritable, "it is a file, and a folder is needed there"))
	}
	if err == nil || filepath.Dir(path) == path {
		return err
	}
	if err := r.makeRoot(filepath.Dir(path)); err != nil {
		return err
	}
	if err := os.Mkdir(path, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	r.made = append(r.made, path)
	return nil
}

// Preview opens a root that is only looked at: units of it can be begun and
// judged, and nothing is made or changed. A root that is missing is empty.
func Preview(path string) (*Root, error) {
	r := &Root{path: path, preview: true, planned: map[string]archive.Entry{}}
	root, err := os.OpenRoot(path)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return nil, fault.Writing(path, err)
	}
	r.root = root
	return r, nil
}

// Close removes the staging folder with all that was not committed, and the
// root too if it was made by Open and nothing is in it.
func (r *Root) Close() error {
	var err error
	if r.staging != nil {
		r.staging.close()
	}
	if r.name != "" && r.root != nil {
		err = r.root.RemoveAll(r.name)
	}
	if r.home != nil {
		r.home.close()
	}
	if r.root != nil {
		r.root.Close()
	}
	for i := len(r.made) - 1; i >= 0; i-- {
		if os.Remove(r.made[i]) != nil { // not empty: it is needed
			break
		}
	}
	return fault.Writing(r.path, err)
}

// makeFolders makes a folder below the root and those above it, and returns
// those that it made, outermost first, even with an error.
func (r *Root) makeFolders(dir string) ([]string, error) {
	if dir == "." || dir == "" {
		return nil, nil
	}
	err := r.root.Mkdir(dir, 0o777)
	switch {
	case err == nil:
		return []string{dir}, nil
	case errors.Is(err, fs.ErrExist):
		return nil, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	made, err := r.makeFolders(path.Dir(dir))
	if err != nil {
		return made, err
	}
	if err := r.root.Mkdir(dir, 0o777); err != nil {
		return made, err
	}
	return append(made, dir), nil
}

// full is the path of something below the root, for people.
func (r *Root) full(rel string) string { return filepath.Join(r.path, filepath.FromSlash(rel)) }

// fold returns what two paths must share to be the same on this file system.
func (r *Root) fold(path string) string {
	if r.folds {
		return strings.ToLower(path)
	}
	return path
}

func (r *Root) nextUnit() string { return strconv.FormatInt(r.units.Add(1), 36) }
