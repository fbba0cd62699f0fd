// Package newfile makes one new file, or a few in one folder, whole or not at all:
// until they are complete they lie there under a hidden name. What they replace,
// core/disposal takes away. Many files at once, with what is there already, are the
// business of core/stage.
package newfile

import (
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/storage"
)

// NewFiles are files in one folder that appear under their names together, when
// they are complete. Until then they lie there, hidden; what a run that was killed left
// is removed by the next one that makes files there.
type NewFiles struct {
	sites   storage.Sites
	path    string // of the folder
	run     string // see claim
	hidden  []string
	lease   io.Closer // on the first of them, as long as there is work on them
	dir     storage.Folder
	olds    map[string]*disposal.Old // what they may replace, by name
	discard func()                   // removes the folder, if it was made for them and holds nothing
}

// CreateIn starts new files in a folder, which is made if missing.
func (s Sites) CreateIn(path string) (*NewFiles, error) {
	n := &NewFiles{sites: s.Sites, path: path, olds: map[string]*disposal.Old{}}
	if err := n.sites.Again(path, n.open); err != nil {
		return nil, fault.Writing(path, err)
	}
	claim.ClearDead(n.dir)
	return n, nil
}

// open makes the folder where it is missing, and opens it.
func (n *NewFiles) open() (err error) {
	n.dir, n.discard, err = n.sites.Make(n.path)
	return err
}

// Next starts the next file. It is the caller's to close. Errors of a disk are those of the system:
// the caller knows what the file is to be.
func (n *NewFiles) Next() (f storage.File, err error) {
	name := ""
	if len(n.hidden) == 0 {
		f, err = n.first()
		name = claim.Hidden(n.run, 0)
	} else {
		name = claim.Hidden(n.run, len(n.hidden))
		f, err = n.dir.Create(name, 0o666)
	}
	if err != nil {
		return nil, err
	}
	n.hidden = append(n.hidden, name)
	return f, nil
}

// first starts the first file. Until then nothing holds the folder, which may vanish.
func (n *NewFiles) first() (f storage.File, err error) {
	err = n.sites.Again(n.path, func() error {
		if n.dir == nil {
			if err := n.open(); err != nil {
				return err
			}
		}
		n.run, f, n.lease, err = claim.Begin(n.dir, 0o666)
		if errors.Is(err, fs.ErrNotExist) {
			n.close()
		}
		return err
	})
	return f, err
}

// Find finds the i-th file, which is hidden, and was closed.
func (n *NewFiles) Find(i int) (blob.File, error) { return n.sites.Find(n.dir.Path(n.hidden[i])) }

// Over lets one of the files replace what was seen at its path.
func (n *NewFiles) Over(old *disposal.Old) {
	if old.There() {
		n.olds[storage.Base(old.Path())] = old
	}
}

// Commit lets the files appear under these names, the first of them last: all of them,
// or none with an error, and then what they would have replaced is as it was. They must
// be closed and written through to the disk. A name at which something stands that was
// not seen, or has changed since, is of kind fault.Refused. It is not interrupted.
func (n *NewFiles) Commit(names []string) error {
	defer n.close()
	dir := n.dir.Begun(0)
	defer dir.Close()
	for _, name := range names {
		if old := n.olds[name]; old != nil {
			if err := old.Still(); err != nil {
				n.removeHidden(dir, len(names))
				return err
			}
		}
	}
	kept := map[int]string{} // what is replaced, under hidden names
	for i := len(names) - 1; i >= 0; i-- {
		err := n.place(dir, i, names[i], len(names) > 1, kept)
		if err == nil {
			continue
		}
		n.removeHidden(dir, i+1)
		for done := i; done < len(names); done++ {
			if old := kept[done]; old != "" {
				err = errors.Join(err, n.olds[names[done]].Back(dir, old, names[done], done > i))
			} else if done > i {
				err = errors.Join(err, dir.Remove(names[done], nil))
			}
		}
		if errors.Is(err, fs.ErrExist) {
			return Existing(dir.Path(names[i]))
		}
		return failedAt(dir.Path(names[i]), err)
	}
	var failed error
	for i, old := range kept { // all of the new ones are there
		failed = errors.Join(failed, n.olds[names[i]].Gone(dir, old, names[i]))
	}
	return fault.Writing(n.path, failed)
}

// failedAt is an error about a file by the name that it was to have, and not by that which it has meanwhile.
func failedAt(path string, err error) error {
	if e, is := errors.AsType[*fault.Error](err); is {
		named := *e
		named.Where = path
		return &named
	}
	return fault.Writing(path, err)
}

// removeHidden removes the first files, which have no other name yet.
func (n *NewFiles) removeHidden(dir storage.Folder, count int) {
	for _, left := range n.hidden[:count] {
		_ = dir.Remove(left, nil) // the first error says what is wrong
	}
}

// place lets one file appear; what it replaces is kept where others may still fail.
func (n *NewFiles) place(dir storage.Folder, i int, name string, several bool, kept map[int]string) (err error) {
	old := n.olds[name]
	if old == nil {
		return dir.Move(n.hidden[i], nil, dir, name)
	}
	if several {
		as, err := old.KeepAs(dir, name, n.hidden[i]+claim.OldSuffix, n.hidden[i]+claim.MovedSuffix)
		if err != nil {
			return err
		}
		if as != "" {
			kept[i] = as
		}
	}
	return old.Yield(dir, n.hidden[i], name, !strings.HasSuffix(kept[i], claim.MovedSuffix))
}

// patience bounds how long is waited for a server to remove what was not finished: the next run
// does that, too.
const patience = 10 * time.Second

// Discard removes what was written so far, also where the run was interrupted.
func (n *NewFiles) Discard() error {
	defer n.close()
	if n.dir == nil {
		return nil
	}
	dir := n.dir.Begun(patience)
	defer dir.Close()
	var failed error
	for _, name := range n.hidden {
		if err := dir.Remove(name, nil); failed == nil && (len(n.hidden) > 1 || !errors.Is(err, fs.ErrNotExist)) {
			failed = err
		}
	}
	return fault.Writing(n.path, failed)
}

func (n *NewFiles) close() {
	if n.lease != nil {
		n.lease.Close()
	}
	if n.dir != nil {
		n.dir.Close()
	}
	if n.discard != nil {
		n.discard()
	}
	n.lease, n.dir, n.discard = nil, nil, nil
}

// A NewFile is a single one of them.
type NewFile struct {
	storage.File
	files  *NewFiles
	path   string
	size   int64     // of what was written in order
	sum    hash.Hash // of that; nil: it can be read again
	closed bool
}

// Create is that of Sites for a path on disk.
func Create(path string, replace bool) (*NewFile, error) { return Sites{}.Create(path, replace) }

// Write is that of File, with errors of kind fault.Unwritable.
func (n *NewFile) Write(p []byte) (int, error) {
	written, err := n.File.Write(p)
	n.size += int64(written)
	if n.sum != nil {
		n.sum.Write(p[:written]) // never fails
	}
	return written, fault.Writing(n.path, err)
}

// WriteAt is that of File, with errors of kind fault.Unwritable.
func (n *NewFile) WriteAt(p []byte, at int64) (int, error) {
	written, err := n.File.WriteAt(p, at)
	return written, fault.Writing(n.path, err)
}

// Writer is what the content is written to. What cannot be read again, and is summed meanwhile, is written in order.
func (n *NewFile) Writer() io.Writer {
	if n.sum != nil {
		return struct{ io.Writer }{n}
	}
	return n
}

// Existing is the error about something that stands where a new file would.
func Existing(path string) error {
	return fault.At(path, fault.New(fault.Refused, "it exists already").
		Suggest(fault.ReplaceIt))
}

// Size is that of what was written so far, in bytes.
func (n *NewFile) Size() (int64, error) {
	f, near := n.File.(stater)
	if !near {
		return n.size, nil
	}
	info, err := f.Stat()
	if err != nil {
		return 0, fault.Writing(n.path, err)
	}
	return info.Size(), nil
}

// Sum is the SHA-256 of what was written in order; nil where it can be read again to know that.
func (n *NewFile) Sum() []byte {
	if n.sum == nil {
		return nil
	}
	return n.sum.Sum(nil)
}

// Like gives the file the owner and the permissions of another, where the place has such.
func (n *NewFile) Like(was fs.FileInfo) error {
	f, is := n.File.(*os.File)
	if !is {
		return nil
	}
	return fault.Writing(n.path, errors.Join(folder.KeepOwner(f, was), f.Chmod(was.Mode().Perm())))
}

// Open reads what was written so far. What cannot be read while it is written is complete then.
func (n *NewFile) Open() (blob.Blob, error) {
	if _, near := n.File.(stater); near {
		size, err := n.Size()
		return blob.Of(n.File, size), err
	}
	if err := n.finish(); err != nil {
		return nil, err
	}
	f, err := n.files.Find(0)
	if err != nil {
		return nil, err
	}
	return f.Data()
}

// finish completes the file, hidden.
func (n *NewFile) finish() error {
	if n.closed {
		return nil
	}
	n.closed = true
	err := n.Sync()
	if closed := n.File.Close(); err == nil {
		err = closed
	}
	return fault.Writing(n.path, err)
}

// Commit writes the file through to the disk and lets it appear under its name.
func (n *NewFile) Commit() error {
	if err := n.finish(); err != nil {
		_ = n.files.Discard() // the first error says what is wrong
		return err
	}
	return n.files.Commit([]string{storage.Base(n.path)})
}

// Discard removes what was written so far.
func (n *NewFile) Discard() error {
	if !n.closed {
		n.File.Close() // it goes
	}
	return n.files.Discard()
}
