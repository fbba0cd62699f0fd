package storage

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/remote"
)

// Sites are where paths can lead: to the disk, and with a client to the servers of addresses, until the context is
// cancelled.
type Sites struct {
	Context context.Context
	Client  *remote.Client // nil: there is only the disk
}

// Of are the sites on which a file was found.
func Of(ctx context.Context, f blob.File) Sites {
	if info, is := f.Info.(blob.Info); is {
		return Sites{ctx, info.At.Client()}
	}
	return Sites{Context: ctx}
}

// Begun are the sites for what is not left in the middle, whatever becomes of the context.
func (s Sites) Begun() Sites { return Sites{context.WithoutCancel(s.context()), s.Client} }

func (s Sites) context() context.Context {
	if s.Context == nil {
		return context.Background()
	}
	return s.Context
}

// address is where a path leads; nil: it is on disk. An address where there is only the disk is of kind fault.Usage.
func (s Sites) address(path string) (*remote.Address, error) {
	switch {
	case !remote.IsAddress(path):
		return nil, nil
	case s.Client == nil:
		return nil, fault.At(path, fault.New(fault.Usage, "it is an address, and this has to be a path on disk"))
	}
	return s.Client.Address(path)
}

// Written is a path as it is written everywhere, whatever the current folder is. An address that cannot be used is of
// kind fault.Usage.
func (s Sites) Written(path string) (string, error) {
	at, err := s.address(path)
	switch {
	case err != nil:
		return "", err
	case at != nil:
		return at.String(), nil
	}
	full, err := filepath.Abs(path)
	return full, fault.Writing(path, err)
}

// Open opens the folder at a path, through links.
func (s Sites) Open(path string) (Folder, error) {
	at, err := s.address(path)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return &server{ctx: s.context(), at: at.AsFolder()}, nil
	}
	return openDisk(path)
}

// Make opens the folder at a path, which is made if it is missing, with those above it. discard removes again what was
// made and has nothing in it; at a server, that stays. What cannot be made is of kind fault.Unwritable.
func (s Sites) Make(path string) (dir Folder, discard func(), err error) {
	at, err := s.address(path)
	if err != nil {
		return nil, nil, err
	}
	if at != nil {
		in := &server{ctx: s.context(), at: at.AsFolder()}
		return in, func() {}, in.make()
	}
	discard, err = folder.Make(path)
	if err != nil {
		return nil, nil, err
	}
	if dir, err = openDisk(path); err != nil {
		discard()
	}
	return dir, discard, err
}

// Ahead makes the folder at a path for several who need it; discard removes it if nothing came into it. At a server,
// who needs it makes it.
func (s Sites) Ahead(path string) (discard func(), err error) {
	at, err := s.address(path)
	if at != nil || err != nil {
		return func() {}, err
	}
	return folder.Make(path)
}

// Again does something in the folder at a path, and does it again if the folder has vanished meanwhile; see
// folder.Again. At a server, where that is made once in a run, it is done twice at most.
func (s Sites) Again(path string, do func() error) error {
	at, err := s.address(path)
	switch {
	case err != nil:
		return err
	case at == nil:
		return folder.Again(do)
	}
	if err = do(); errors.Is(err, fs.ErrNotExist) {
		made.Range(func(folder, _ any) bool {
			if strings.HasPrefix(folder.(string), at.AsFolder().String()) {
				made.Delete(folder)
			}
			return true
		})
		err = do()
	}
	return err
}

// A Descent goes from one folder to others below it, and follows no link on the way, as far as the place lets that be
// seen: a server follows those in its paths. It is not for several goroutines.
type Descent interface {
	// To opens the folder at a path with slashes below the first one, until the next call; "." is that itself. Where
	// missing, it is made with those above it if create says so.
	To(rel string, create bool) (Folder, error)

	// Close lets go of all folders.
	Close()
}

// Descend opens the folder at a path, through links, to go down from there; see folder.Descent.
func (s Sites) Descend(path string) (Descent, error) {
	at, err := s.address(path)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return &server{ctx: s.context(), at: at.AsFolder()}, nil
	}
	d, err := folder.Descend(path)
	if err != nil {
		return nil, err
	}
	return descent{d, path}, nil
}

// Lstat says what stands at a path. Where nothing does, the error is fs.ErrNotExist.
func (s Sites) Lstat(path string) (fs.FileInfo, error) {
	at, err := s.address(path)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return lstat(s.context(), at)
	}
	info, err := os.Lstat(path)
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	return info, err
}

// Find returns what stands at a path, as it is now, with a way to read it; without Info, nothing does.
func (s Sites) Find(path string) (blob.File, error) {
	at, err := s.address(path)
	if err != nil {
		return blob.File{}, err
	}
	if at != nil {
		return blob.FindAt(s.context(), at)
	}
	info, err := s.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return blob.File{Path: path}, nil
	}
	return blob.File{Path: path, Info: info}, fault.Writing(path, err)
}

// Identify is Find without a way to read what has to be fetched.
func (s Sites) Identify(path string) (blob.File, error) {
	at, err := s.address(path)
	if at == nil || err != nil {
		return s.Find(path)
	}
	f, err := blob.IdentifyAt(s.context(), at)
	if errors.Is(err, fs.ErrNotExist) {
		return blob.File{Path: path, Remote: true}, nil
	}
	return f, err
}

// Stat is Lstat of what a link leads to.
func (s Sites) Stat(path string) (fs.FileInfo, error) {
	if at, err := s.address(path); at == nil && err == nil {
		return os.Stat(path)
	}
	info, err := s.Lstat(path)
	if far, is := info.(blob.Info); is {
		far.Link = false
		info = far
	}
	return info, err
}

// Resolve is Find of what a link leads to.
func (s Sites) Resolve(path string) (blob.File, error) {
	at, err := s.address(path)
	if at != nil || err != nil {
		return s.Find(path)
	}
	info, err := os.Stat(path)
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	if errors.Is(err, fs.ErrNotExist) {
		return blob.File{Path: path}, nil
	}
	return blob.File{Path: path, Info: info}, err
}

// List names what is in a folder, in no order, where that costs no more than a look at a few of them: at a server, it is
// errors.ErrUnsupported. A folder that cannot be listed is of kind fault.Unreadable.
func (s Sites) List(path string) ([]string, error) {
	if at, err := s.address(path); at != nil || err != nil {
		return nil, cmp.Or(err, errors.ErrUnsupported)
	}
	root, err := os.OpenRoot(path) // which does not wait for a pipe that was put there
	if err != nil {
		return nil, fault.Reading(path, err)
	}
	defer root.Close()
	dir, err := root.Open(".")
	if err != nil {
		return nil, fault.Reading(path, err)
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	return names, fault.Reading(path, err)
}

// Same reports whether two paths are those of one folder, as far as that is known.
func Same(a, b string) bool {
	if remote.IsAddress(a) || remote.IsAddress(b) {
		return strings.TrimSuffix(Absolute(a), "/") == strings.TrimSuffix(Absolute(b), "/")
	}
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}

// SameEntry reports whether a path is a file's own, however it is written, or that of a link that leads to it. Another
// name of the same file is not. A server may have several addresses for one file, which nobody can see.
func SameEntry(f blob.File, path string) bool {
	if f.Remote {
		return Absolute(f.Path) == Absolute(path)
	}
	there, err := os.Stat(path)
	if err != nil || !os.SameFile(there, f.Info) {
		return false
	}
	if link, err := os.Lstat(path); err != nil || link.Mode()&fs.ModeSymlink != 0 {
		return err == nil
	}
	a, errA := os.Stat(filepath.Dir(f.Path))
	b, errB := os.Stat(filepath.Dir(path))
	return errA == nil && errB == nil && os.SameFile(a, b) && strings.EqualFold(filepath.Base(f.Path), filepath.Base(path))
}

// ID is what the file at a path is, whatever the path; nil where nothing is there, or that is not known.
func ID(path string) any {
	if remote.IsAddress(path) {
		return Absolute(path)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	return IDOf(blob.File{Path: path, Info: info})
}

// IDOf is that of a file that was found.
func IDOf(f blob.File) any {
	if f.Remote {
		return f.Path
	}
	if id, _, known := folder.IDOf(f.Path, f.Info); known {
		return id
	}
	return nil
}

// Parallel is how many files are best dealt with at once: several where each is mostly waited for.
func Parallel(files []blob.File) int {
	for _, f := range files {
		if !f.Remote {
			return 1
		}
	}
	return max(1, 2*remote.DefaultConnections*min(1, len(files)))
}

// CheckMove makes sure that what lies at a path could be moved to a folder in one step: on a disk, or on the same
// server. Anything else is of kind fault.Usage.
func CheckMove(path string, at *remote.Address, to string) error {
	switch {
	case at == nil && remote.IsAddress(to):
		return fault.At(path, fault.New(fault.Usage, "it lies on disk, and cannot be moved to an address").Advise("name a folder on disk to move it to"))
	case at == nil:
		return nil
	case !remote.IsAddress(to):
		return fault.At(path, fault.New(fault.Usage, "it lies at an address, and can only be moved on its server").Advise("name an address there to move it to: "+at.Folder().Sibling("done").String()+"/, for example"))
	}
	_, err := at.OnSameHost(to)
	return err
}

// IsFar reports whether all of a file that was seen would have to be fetched to look into it.
func IsFar(seen fs.FileInfo) bool {
	_, far := seen.(blob.Info)
	return far
}

// OpenFile opens a file to read it. What has to be fetched for that is errors.ErrUnsupported; other errors are those
// of the system, or of kind fault.Unreadable.
func (s Sites) OpenFile(path string) (*os.File, error) {
	if at, err := s.address(path); at != nil || err != nil {
		return nil, cmp.Or(err, errors.ErrUnsupported)
	}
	f, _, err := folder.OpenRegular(path)
	return f, err
}

// OpenToAppend opens a file to append to it. The file is made where it is missing, and its folder, too. What can only be
// written as a whole is errors.ErrUnsupported.
func (s Sites) OpenToAppend(path string) (file *os.File, err error) {
	if at, err := s.address(path); at != nil || err != nil {
		return nil, cmp.Or(err, errors.ErrUnsupported)
	}
	err = folder.Again(func() error {
		discard, err := folder.Make(filepath.Dir(path))
		if err != nil {
			return err
		}
		defer discard()
		file, err = os.OpenFile(path, os.O_RDWR|os.O_APPEND|os.O_CREATE, 0o666)
		return err
	})
	return file, fault.Writing(path, err)
}
