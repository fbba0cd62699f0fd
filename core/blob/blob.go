// Package blob has what an archive is read from: bytes at offsets, with a name, a
// size, and the files that they lie in. A file, the parts of a set as one, bytes
// in memory and a stream that was spooled are all the same to those who read them.
// What the bytes mean is none of its business.
package blob

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"sync/atomic"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// A Blob is bytes at offsets. It may be read on several goroutines.
type Blob interface {
	io.ReaderAt
	io.Closer

	// Size is in bytes.
	Size() int64

	// Files are those that the blob lies in, in order; none for one in memory.
	Files() []File
}

// A File is a file that is read, as it was when it was found: its identity.
type File struct {
	Path   string // or address
	Info   fs.FileInfo
	Remote bool                 // the file lies at an address, and not on disk
	Tag    string               // by which its server tells versions apart; empty: there is none
	Open   func() (Blob, error) // of a remote file; nil: it can only be opened where it was found
	SHA256 []byte               // of a remote file that was kept as it came, and of one on disk where somebody asked; see AddSum
}

// Find returns the identity of a file on disk, that of what a link points at.
// Errors, and what is no file, are of kind fault.Unreadable.
func Find(path string) (File, error) {
	info, err := os.Stat(path)
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Unreadable, "it is no file")
	}
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	return File{Path: path, Info: info}, fault.Reading(path, err)
}

// Size is in bytes.
func (f File) Size() int64 { return f.Info.Size() }

// Data opens it. Errors are of kind fault.Unreadable.
func (f File) Data() (Blob, error) {
	if f.Open != nil {
		return f.Open()
	}
	return Open(f.Path)
}

// Is reports whether what is found now is still that file as it was: the same
// one, of the same size and time.
func (f File) Is(now fs.FileInfo) bool {
	if was, is := f.Info.(Info); is {
		is, same := now.(Info)
		return same && was.Same(&is.Info)
	}
	return now.Size() == f.Info.Size() && now.ModTime().Equal(f.Info.ModTime()) && os.SameFile(now, f.Info)
}

// Unchanged makes sure that its path still leads to the file as it was; anything
// else is of kind fault.Unreadable. What lies at an address is asked for as it was each time.
func (f File) Unchanged() error {
	if f.Remote {
		return nil
	}
	now, err := os.Stat(f.Path)
	if err == nil && !f.Is(now) {
		err = fault.New(fault.Unreadable, "it changed while it was read").Advise("run it again when nothing writes to it any more")
	}
	return fault.Reading(f.Path, err)
}

// Open opens a file. Errors, and what is no file, are of kind fault.Unreadable.
func Open(path string) (Blob, error) {
	f, info, err := folder.OpenRegular(path)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	return &file{File: f, identity: File{Path: path, Info: info}}, nil
}

type file struct {
	*os.File
	identity File
	ahead    atomic.Pointer[piece]
}

// piece is what was read ahead.
type piece struct {
	from int64
	data []byte
}

// Foresee reads many small ranges that lie close together at once.
func (f *file) Foresee(ranges []Range) {
	const few, most = 4, 512 << 10
	hull, wanted := ranges[0], int64(0)
	for _, r := range ranges {
		hull.From, hull.To = min(hull.From, r.From), max(hull.To, r.To)
		wanted += r.To - r.From
	}
	size := min(hull.To, f.Size()) - hull.From
	if len(ranges) < few || size <= 0 || size > most || wanted < size/2 {
		return
	}
	data := make([]byte, size)
	n, _ := f.File.ReadAt(data, hull.From) // what is missing is read, and fails, when it is needed
	f.ahead.Store(&piece{hull.From, data[:n]})
}

func (f *file) ReadAt(p []byte, at int64) (int, error) {
	if a := f.ahead.Load(); a != nil && at >= a.from && at-a.from <= int64(len(a.data)-len(p)) {
		return copy(p, a.data[at-a.from:]), nil
	}
	return f.File.ReadAt(p, at)
}

func (f *file) Size() int64   { return f.identity.Size() }
func (f *file) Files() []File { return []File{f.identity} }

// Of makes a blob of what somebody else opened, and closes.
func Of(r io.ReaderAt, size int64) Blob { return borrowed{r, size} }

type borrowed struct {
	io.ReaderAt
	size int64
}

func (b borrowed) Size() int64 { return b.size }
func (borrowed) Close() error  { return nil }
func (borrowed) Files() []File { return nil }

// Section is a piece of a blob, which stays open.
func Section(b Blob, from, size int64) Blob { return &section{b, from, size} }

type section struct {
	Blob
	from, size int64
}

func (s *section) Size() int64   { return s.size }
func (s *section) Close() error  { return nil }
func (s *section) Files() []File { return nil }

func (s *section) ReadAt(p []byte, at int64) (int, error) {
	if at >= s.size {
		return 0, io.EOF
	}
	n, err := s.Blob.ReadAt(p[:min(int64(len(p)), s.size-at)], s.from+at)
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

// Foresee is that of Foreseer.
func (s *section) Foresee(ranges []Range) {
	inside := make([]Range, len(ranges))
	for i, r := range ranges {
		inside[i] = Range{s.from + r.From, s.from + min(r.To, s.size)}
	}
	Foresee(s.Blob, inside...)
}

// Memory is bytes in memory.
func Memory(b []byte) Blob { return memory{bytes.NewReader(b)} }

type memory struct{ *bytes.Reader }

func (memory) Close() error  { return nil }
func (memory) Files() []File { return nil }

// Equal reports whether two streams have the same bytes to their ends.
func Equal(a, b io.Reader) (bool, error) {
	const block = 64 << 10
	x, y := make([]byte, block), make([]byte, block)
	for {
		n, errA := io.ReadFull(a, x)
		m, errB := io.ReadFull(b, y)
		if !bytes.Equal(x[:n], y[:m]) {
			return false, nil
		}
		for _, err := range []error{errA, errB} {
			if err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
				return false, err
			}
		}
		if errA != nil || errB != nil {
			return true, nil
		}
	}
}

// EqualFiles reports whether two files have the same bytes. Errors name the file.
func EqualFiles(a, b File) (bool, error) {
	x, err := a.Data()
	if err != nil {
		return false, fault.At(a.Path, err)
	}
	defer x.Close()
	y, err := b.Data()
	if err != nil {
		return false, fault.At(b.Path, err)
	}
	defer y.Close()
	if x.Size() != y.Size() {
		return false, nil
	}
	same, err := Equal(io.NewSectionReader(x, 0, x.Size()), io.NewSectionReader(y, 0, y.Size()))
	return same, fault.Reading(a.Path, err)
}
