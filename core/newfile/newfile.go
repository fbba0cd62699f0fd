// Package newfile makes one new file, or a few in one folder, whole or not at all:
// until they are complete they lie there under a hidden name. What they replace,
// core/disposal takes away. Many files at once, with what is there already, are the
// business of core/stage.
package newfile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// NewFiles are files in one folder that appear under their names together, when
// they are complete. Until then they lie there, hidden; what a run that was killed left
// is removed by the next one that makes files there.
type NewFiles struct {
	path   string // of the folder
	prefix string
	hidden []string
	lock   *os.File // on the first of them, as long as there is work on them
	dir    *folder.Folder
	root   *os.Root
	olds   map[string]*disposal.Old // what they may replace, by name

	discard func() // removes the folder, if it was made for them and holds nothing
}

// CreateIn starts new files in a folder, which is made if missing.
func CreateIn(path string) (*NewFiles, error) {
	n := &NewFiles{path: path}
	if err := folder.Again(n.open); err != nil {
		return nil, fault.Writing(path, err)
	}
	claim.ClearDead(n.dir, path)
	return n, nil
}

// open makes the folder where it is missing, and opens it.
func (n *NewFiles) open() (err error) {
	if n.discard, err = folder.Make(n.path); err != nil {
		return err
	}
	if n.root, err = os.OpenRoot(n.path); err == nil {
		n.dir, err = folder.Open(n.root, ".")
	}
	if err != nil {
		n.close()
	}
	return err
}

// Next starts the next file. It is the caller's to close. Errors are those of the system:
// the caller knows what the file is to be.
func (n *NewFiles) Next() (File, error) {
	f, err := n.next()
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (n *NewFiles) next() (*os.File, error) {
	var f *os.File
	var err error
	if len(n.hidden) == 0 {
		f, err = n.first()
	} else {
		f, err = n.dir.OpenFile(claim.Hidden(n.prefix, len(n.hidden)), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	}
	if err != nil {
		return nil, err
	}
	n.hidden = append(n.hidden, claim.Hidden(n.prefix, len(n.hidden)))
	return f, nil
}

// first starts the first file. Until then nothing holds the folder, which may vanish.
func (n *NewFiles) first() (f *os.File, err error) {
	err = folder.Again(func() error {
		if n.dir == nil {
			if err := n.open(); err != nil {
				return err
			}
		}
		n.prefix, f, n.lock, err = claim.Begin(n.dir, 0o666)
		if errors.Is(err, fs.ErrNotExist) {
			n.close()
		}
		return err
	})
	return f, err
}

// Find finds the i-th file, which is hidden.
func (n *NewFiles) Find(i int) (blob.File, error) {
	return blob.Find(filepath.Join(n.path, n.hidden[i]))
}

// Over lets one of the files replace what was seen at its path.
func (n *NewFiles) Over(seen Old) {
	old := seen.(*disposal.Old)
	if !old.There() {
		return
	}
	if n.olds == nil {
		n.olds = map[string]*disposal.Old{}
	}
	n.olds[filepath.Base(old.Path())] = old
}

// Commit lets the files appear under these names, the first of them last: all of them,
// or none with an error, and then what they would have replaced is as it was. They must
// be closed and written through to the disk. A name at which something stands that was
// not seen, or has changed since, is of kind fault.Refused.
func (n *NewFiles) Commit(names []string) error {
	defer n.close()
	for _, name := range names {
		if old := n.olds[name]; old != nil {
			if err := old.Still(); err != nil {
				n.removeHidden(len(names))
				return err
			}
		}
	}
	kept := map[int]string{} // what is replaced, under hidden names
	for i := len(names) - 1; i >= 0; i-- {
		err := n.place(i, names[i], len(names) > 1, kept)
		if err == nil {
			continue
		}
		n.removeHidden(i + 1)
		for done := i; done < len(names); done++ {
			if old := kept[done]; old != "" {
				err = errors.Join(err, n.olds[names[done]].Back(n.dir, old, names[done]))
			} else if done > i {
				err = errors.Join(err, n.dir.Remove(names[done]))
			}
		}
		if errors.Is(err, fs.ErrExist) {
			return Existing(filepath.Join(n.path, names[i]))
		}
		return fault.Writing(filepath.Join(n.path, names[i]), err)
	}
	for i, old := range kept {
		n.olds[names[i]].Gone(n.dir, old, names[i]) // all of the new ones are there
	}
	return nil
}

// removeHidden removes the first files, which have no other name yet.
func (n *NewFiles) removeHidden(count int) {
	for _, left := range n.hidden[:count] {
		_ = n.dir.Remove(left) // the first error says what is wrong
	}
}

// place lets one file appear; what it replaces is kept where others may still fail.
func (n *NewFiles) place(i int, name string, several bool, kept map[int]string) error {
	old := n.olds[name]
	if old == nil {
		return n.dir.MoveTo(n.hidden[i], n.dir.Handle, name, false)
	}
	if several {
		if as := old.KeepAs(n.dir, name, n.hidden[i]+claim.OldSuffix, n.hidden[i]+claim.MovedSuffix); as != "" {
			kept[i] = as
		}
	}
	return old.Yield(n.dir, n.hidden[i], name)
}

// Discard removes what was written so far.
func (n *NewFiles) Discard() error {
	defer n.close()
	var failed error
	for _, name := range n.hidden {
		if err := n.dir.Remove(name); failed == nil {
			failed = err
		}
	}
	return fault.Writing(n.path, failed)
}

func (n *NewFiles) close() {
	if n.lock != nil {
		n.lock.Close()
	}
	if n.dir != nil {
		n.dir.Close()
	}
	if n.root != nil {
		n.root.Close()
	}
	if n.discard != nil {
		n.discard()
	}
	n.lock, n.dir, n.root, n.discard = nil, nil, nil, nil
}

// A NewFile is a single one of them.
type NewFile struct {
	*os.File
	files *NewFiles
	path  string
}

// Create starts a file that is to appear at path, whose folder is made if missing. Without
// replace, something that is there already is of kind fault.Refused.
func Create(path string, replace bool) (*NewFile, error) {
	old, err := disposal.Look(path)
	switch {
	case err != nil:
		return nil, err
	case old.There() && !replace:
		return nil, Existing(path)
	}
	return CreateOver(old)
}

// CreateOver starts a file that is to take the place of what was seen at its path.
func CreateOver(old *disposal.Old) (*NewFile, error) {
	path := old.Path()
	files, err := CreateIn(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	files.Over(old)
	f, err := files.next()
	if err != nil {
		files.close()
		return nil, fault.Writing(path, err)
	}
	return &NewFile{f, files, path}, nil
}

// Write is that of os.File, with errors of kind fault.Unwritable.
func (n *NewFile) Write(p []byte) (int, error) {
	written, err := n.File.Write(p)
	return written, fault.Writing(n.path, err)
}

// WriteAt is that of os.File, with errors of kind fault.Unwritable.
func (n *NewFile) WriteAt(p []byte, at int64) (int, error) {
	written, err := n.File.WriteAt(p, at)
	return written, fault.Writing(n.path, err)
}

// Existing is the error about something that stands where a new file would.
func Existing(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already").
		Suggest(fault.ReplaceIt))
}

// Size is that of what was written so far, in bytes.
func (n *NewFile) Size() (int64, error) {
	info, err := n.Stat()
	if err != nil {
		return 0, fault.Writing(n.path, err)
	}
	return info.Size(), nil
}

// Open reads what was written so far.
func (n *NewFile) Open() (blob.Blob, error) {
	size, err := n.Size()
	return blob.Of(n.File, size), err
}

// Commit writes the file through to the disk and lets it appear under its name.
func (n *NewFile) Commit() error {
	err := n.Sync()
	if closed := n.File.Close(); err == nil {
		err = closed
	}
	if err != nil {
		_ = n.files.Discard() // the first error says what is wrong
		return fault.Writing(n.path, err)
	}
	return n.files.Commit([]string{filepath.Base(n.path)})
}

// Discard removes what was written so far.
func (n *NewFile) Discard() error {
	n.File.Close()
	return n.files.Discard()
}
