package stage

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"widecrate/core/fault"
)

// A NewFile is a single file that appears under its name when it is complete.
// Until then it lies beside it, hidden.
type NewFile struct {
	*os.File
	path, name string
	dir        *folder
	root       *os.Root
}

// Create starts a file that is to appear at path. The folder must exist.
// Without replace, something that is there already is of kind fault.Refused.
func Create(path string, replace bool) (*NewFile, error) {
	if info, err := os.Lstat(path); err == nil && (!replace || info.IsDir()) {
		return nil, taken(path)
	}
	n := &NewFile{path: path, name: prefix + strings.ToLower(rand.Text()[:10])}
	err := n.open()
	if err == nil {
		return n, nil
	}
	n.close()
	e := fault.Writing(filepath.Dir(path), err).(*fault.Error)
	if errors.Is(err, fs.ErrNotExist) {
		e.Do = "make that folder first, or check the spelling"
	}
	return nil, e
}

func taken(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already").
		Advise("choose another name, or replace it with --clash replace"))
}

func (n *NewFile) open() (err error) {
	if n.root, err = os.OpenRoot(filepath.Dir(n.path)); err != nil {
		return err
	}
	if n.dir, err = openFolder(n.root, "."); err != nil {
		return err
	}
	n.File, err = n.dir.OpenFile(n.name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	return err
}

// Commit writes the file through to the disk and lets it appear under its name.
func (n *NewFile) Commit(replace bool) error {
	defer n.close()
	err := n.Sync()
	if closed := n.File.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = n.dir.move(n.name, n.dir.handle, filepath.Base(n.path), replace)
	}
	if err != nil {
		_ = n.dir.Remove(n.name) // the first error says what is wrong
		if errors.Is(err, fs.ErrExist) {
			return taken(n.path)
		}
	}
	return fault.Writing(n.path, err)
}

// Discard removes what was written so far.
func (n *NewFile) Discard() error {
	defer n.close()
	n.File.Close()
	return fault.Writing(n.path, n.dir.Remove(n.name))
}

func (n *NewFile) close() {
	if n.dir != nil {
		n.dir.close()
	}
	if n.root != nil {
		n.root.Close()
	}
}
