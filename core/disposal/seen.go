package disposal

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/storage"
)

// Seen is a file or link, as it was looked at. Its methods use the Ground that it was seen on.
type Seen struct {
	Path string // absolute
	fs.FileInfo
	ground *Ground
}

// See looks at a path. Where nothing is, the error is fs.ErrNotExist; what lies elsewhere, or behind a
// link, is of kind fault.Refused; other errors are those of the system.
func (g *Ground) See(path string) (*Seen, error) {
	dir, name, err := g.at(path, false, false)
	if err != nil {
		return nil, err
	}
	info, err := dir.Lstat(name)
	if err != nil {
		return nil, err
	}
	return &Seen{path, info, g}, nil
}

// again looks at it once more, in a folder that is open. Anything else that is there now is of kind
// fault.Refused, and Stays.
func (s *Seen) again(g *Ground) (dir storage.Folder, name string, err error) {
	if dir, name, err = g.at(s.Path, false, false); err != nil {
		return nil, "", fault.Reading(s.Path, err)
	}
	now, err := dir.Lstat(name)
	if Unanswered(err) {
		return nil, "", err
	}
	if err != nil || !(blob.File{Info: s.FileInfo}).Is(now) {
		return nil, "", stale(s.Path)
	}
	return dir, name, nil
}

// Unanswered reports whether a look failed because a server did not answer it.
func Unanswered(err error) bool {
	return fault.Of(err) == fault.Unreadable && !errors.Is(err, fs.ErrNotExist)
}

// stale is the error of what is another by now.
func stale(path string) error {
	return fault.At(path, fault.New(fault.Refused, "%w", &Stays{storage.ErrStale.Error()}))
}

// Link is the path that a link leads to.
func (s *Seen) Link() (string, error) {
	dir, name, err := s.ground.at(s.Path, false, false)
	if err != nil {
		return "", err
	}
	links, can := dir.(storage.Linker)
	if !can {
		return "", fault.At(s.Path, errors.ErrUnsupported)
	}
	return links.Readlink(name)
}

// open opens a file, which is that.
func (s *Seen) open(g *Ground) (storage.Reader, error) {
	dir, name, err := g.at(s.Path, false, false)
	if err != nil {
		return nil, err
	}
	f, err := dir.OpenToRead(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !(blob.File{Info: s.FileInfo}).Is(info) {
		f.Close()
		return nil, stale(s.Path)
	}
	return f, nil
}

// SHA256 is the sum of a file, or of the path that a link leads to, in hexadecimal. Anything else has
// none, which is of kind fault.Refused.
func (s *Seen) SHA256() (string, error) {
	switch {
	case s.Mode()&fs.ModeSymlink != 0:
		target, err := s.Link()
		return sumOf(target), err
	case !s.Mode().IsRegular():
		return "", fault.New(fault.Refused, "it is neither a file nor a link")
	}
	f, err := s.open(s.ground)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum, err := blob.Sum(f)
	return hex.EncodeToString(sum), err
}

// Is reports whether a file or link has that sum.
func (s *Seen) Is(sum string) bool {
	is, err := s.SHA256()
	return err == nil && sum != "" && is == sum
}

// equals reports whether two files have the same bytes.
func (s *Seen) equals(other *Seen) (bool, error) {
	if !other.Mode().IsRegular() || s.Size() != other.Size() {
		return false, nil
	}
	a, err := s.open(s.ground)
	if err != nil {
		return false, fault.Reading(s.Path, err)
	}
	defer a.Close()
	b, err := other.open(other.ground)
	if err != nil {
		return false, fault.Reading(other.Path, err)
	}
	defer b.Close()
	same, err := blob.Equal(a, b)
	return same, fault.Reading(s.Path, err)
}

func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Proof is Seen.SHA256 of what is at a path; empty where all of it would have to be fetched: there, size and time
// are all the proof. Errors are those of the system, or of kind fault.Refused.
func Proof(sites storage.Sites, path string) (sum string, err error) {
	err = seeing(sites, path, func(s *Seen) error {
		if !storage.IsFar(s.FileInfo) {
			sum, err = s.SHA256()
		}
		return err
	})
	return sum, err
}

// seeing looks at a path, wherever it leads.
func seeing(sites storage.Sites, path string, do func(*Seen) error) error {
	path = storage.Absolute(path)
	g := NewGround(sites, []string{storage.Dir(path)})
	defer g.Close()
	s, err := g.See(path)
	if err == nil {
		err = do(s)
	}
	return err
}
