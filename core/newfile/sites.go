package newfile

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"

	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/remote"
)

// Sites are where new files can go: the disk, and with a client the servers of addresses, until
// the context is cancelled.
type Sites struct {
	Context context.Context
	Client  *remote.Client  // nil: there is only the disk
	Needs   *disposal.Needs // what nothing may replace; nil: nothing
}

// A File is one that is written. What is read of it was written before.
type File interface {
	io.Writer
	io.WriterAt
	io.ReaderAt
	Sync() error
	Close() error
}

// Files are several of one folder; see NewFiles.
type Files interface {
	Next() (File, error)
	Find(i int) (blob.File, error) // the i-th, hidden, once it was closed
	Over(old Old)
	Commit(names []string) error
	Discard() error
}

// An Old is what stood at a path when a run decided to replace it: a file, or nothing.
type Old interface {
	Path() string
	There() bool
	Remove() error // if it is as it was seen: a part of a set of which all other parts are new
}

// A Whole is a single new file.
type Whole interface {
	io.Writer
	Size() (int64, error)
	Open() (blob.Blob, error) // what was written so far
	Commit() error
	Discard() error
}

// Address is where a path leads; nil: it is on disk.
func (s Sites) Address(path string) (*remote.Address, error) {
	switch {
	case !remote.IsAddress(path):
		return nil, nil
	case s.Client == nil:
		return nil, fault.At(path, fault.New(fault.Usage, "it is an address, and this has to be a path on disk"))
	}
	return s.Client.Address(path)
}

// Written is an address as it is written everywhere.
func (s Sites) Written(address string) (string, error) {
	at, err := s.Address(address)
	if err != nil {
		return "", err
	}
	return at.String(), nil
}

// Create starts a file; see the function of that name.
func (s Sites) Create(path string, replace bool) (Whole, error) {
	old, err := s.Look(path)
	if err != nil {
		return nil, err
	}
	if old.There() && !replace {
		return nil, Existing(path)
	}
	return s.CreateOver(old)
}

// CreateOver starts a file that is to take the place of what was seen at its path.
func (s Sites) CreateOver(old Old) (Whole, error) {
	if onDisk, is := old.(*disposal.Old); is {
		return CreateOver(onDisk)
	}
	files, err := s.CreateIn(place.Dir(old.Path()))
	if err != nil {
		return nil, err
	}
	files.Over(old)
	f, err := files.Next()
	if err != nil {
		return nil, err
	}
	return &sent{Writer: f, file: f, files: files, name: place.Base(old.Path()), sum: sha256.New()}, nil
}

// CreateIn starts files in a folder, which is made if missing.
func (s Sites) CreateIn(path string) (Files, error) {
	at, err := s.Address(path)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return createElsewhere(s.Context, at.AsFolder())
	}
	return CreateIn(path)
}

// Look finds what stands at a path, to be replaced. A folder, and what the run needs, are of kind fault.Refused.
func (s Sites) Look(path string) (old Old, err error) {
	at, err := s.Address(path)
	switch {
	case err != nil:
	case at != nil:
		old, err = disposal.LookAt(s.Context, at)
	default:
		old, err = disposal.Look(path)
	}
	if err == nil && old.There() {
		err = s.Needs.Replace(path)
	} else if err == nil {
		err = s.Needs.Make(path)
	}
	return old, err
}

// Find returns what stands at a path, as it is now; without Info, nothing does.
func (s Sites) Find(path string) (blob.File, error) {
	at, err := s.Address(path)
	if err != nil {
		return blob.File{}, err
	}
	if at != nil {
		return blob.FindAt(s.Context, at)
	}
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return blob.File{Path: path}, nil
	}
	return blob.File{Path: path, Info: info}, fault.Writing(path, err)
}

// Identify is Find without a way to read what lies at an address.
func (s Sites) Identify(path string) (blob.File, error) {
	at, err := s.Address(path)
	if at == nil || err != nil {
		return s.Find(path)
	}
	f, err := blob.IdentifyAt(s.Context, at)
	if errors.Is(err, remote.ErrMissing) {
		return blob.File{Path: path, Remote: true}, nil
	}
	return f, err
}

// Make makes a folder if it is missing; the function that it returns removes it again if it is
// empty. At an address it is made with the first file.
func (s Sites) Make(path string) (discard func(), err error) {
	at, err := s.Address(path)
	if at != nil || err != nil {
		return func() {}, err
	}
	return folder.Make(path)
}

// Note records what was delivered at a path, after its commit.
func (s Sites) Note(path string) (disposal.Record, error) {
	at, err := s.Address(path)
	if err != nil {
		return disposal.Record{}, err
	}
	if at != nil {
		return disposal.NoteAt(s.Context, at)
	}
	return disposal.Note(path)
}

// OfKind is disposal.OfKind.
func (s Sites) OfKind(path, what string, is func(start []byte) bool) error {
	at, err := s.Address(path)
	switch {
	case err != nil:
		return err
	case at == nil:
		return disposal.OfKind(path, what, is)
	}
	return remote.Settled(func() error {
		there, err := blob.FindAt(s.Context, at)
		if err != nil || there.Info == nil || there.Size() == 0 {
			return err
		}
		data, err := there.Data()
		if err != nil {
			return fault.At(path, err)
		}
		defer data.Close()
		return disposal.OfKindIn(path, what, data, is)
	})
}
