package blob

import (
	"bytes"
	"errors"
	"io"
	"os"

	"widecrate/core/fault"
)

// Spool keeps what comes from a stream: in memory if it has no more than so many
// bytes, otherwise in a file that is removed when the blob is closed. That lies in
// the folder that dir names, or nil: in that of the system for such files. Errors
// of data are returned as they are, those of the file are of kind
// fault.Unwritable.
func Spool(data io.Reader, inMemory int64, dir func() (string, error)) (Blob, error) {
	var b bytes.Buffer
	if _, err := io.CopyN(&b, data, inMemory+1); err != nil && err != io.EOF {
		return nil, err
	}
	if int64(b.Len()) <= inMemory {
		return Memory(b.Bytes()), nil
	}
	in := ""
	if dir != nil {
		var err error
		if in, err = dir(); err != nil {
			return nil, err
		}
	}
	s, err := newSpooled(in)
	if err != nil {
		return nil, err
	}
	if s.size, err = io.Copy(s, io.MultiReader(&b, data)); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// spooled is a file for a while.
type spooled struct {
	file  *os.File
	size  int64
	named bool // it still has its name
}

func newSpooled(dir string) (*spooled, error) {
	f, err := os.CreateTemp(dir, "widecrate-spool-")
	if err != nil {
		return nil, fault.Writing(dir, err)
	}
	// Where a file that is open can be removed, nothing of it outlives a kill.
	return &spooled{file: f, named: os.Remove(f.Name()) != nil}, nil
}

func (s *spooled) Write(p []byte) (int, error) {
	n, err := s.file.Write(p)
	return n, fault.Writing(s.file.Name(), err)
}

func (s *spooled) ReadAt(p []byte, at int64) (int, error) { return s.file.ReadAt(p, at) }
func (s *spooled) Size() int64                            { return s.size }
func (s *spooled) Files() []File                          { return nil }

func (s *spooled) Close() error {
	err := s.file.Close()
	if s.named {
		s.named = false
		err = errors.Join(err, os.Remove(s.file.Name()))
	}
	return err
}
