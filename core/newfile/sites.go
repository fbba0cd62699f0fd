package newfile

import (
	"crypto/sha256"
	"io/fs"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/storage"
)

// Sites are where new files can go, but not in the place of what the run needs.
type Sites struct {
	storage.Sites
	Needs *disposal.Needs // nil: nothing
}

// Look finds what stands at a path, to be replaced. A folder, and what the run needs, are of kind fault.Refused.
func (s Sites) Look(path string) (*disposal.Old, error) {
	old, err := disposal.Look(s.Sites, path)
	if err == nil && old.There() {
		err = s.Needs.Replace(path)
	} else if err == nil {
		err = s.Needs.Make(path)
	}
	return old, err
}

// Create starts a file that is to appear at path, whose folder is made if missing. Without
// replace, something that is there already is of kind fault.Refused.
func (s Sites) Create(path string, replace bool) (*NewFile, error) {
	old, err := s.Look(path)
	switch {
	case err != nil:
		return nil, err
	case old.There() && !replace:
		return nil, Existing(path)
	}
	return s.CreateOver(old)
}

// CreateOver starts a file that is to take the place of what was seen at its path.
func (s Sites) CreateOver(old *disposal.Old) (*NewFile, error) {
	path := old.Path()
	files, err := s.CreateIn(storage.Dir(path))
	if err != nil {
		return nil, err
	}
	files.Over(old)
	f, err := files.Next()
	if err != nil {
		files.close()
		return nil, fault.Writing(path, err)
	}
	n := &NewFile{File: f, files: files, path: path}
	if _, near := f.(stater); !near {
		n.sum = sha256.New()
	}
	return n, nil
}

// stater is a file that tells how long it is, as it can be read again.
type stater interface{ Stat() (fs.FileInfo, error) }
