package blob

import (
	"bytes"
	"io"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// Spool keeps what comes from a stream: in memory if it has no more than so many
// bytes, otherwise in a file that is removed when the blob is closed. That lies in
// the folder that dir names, or nil: in that of the system for such files. Errors
// of data are returned as they are, those of the file are of kind
// fault.Unwritable.
func Spool(data io.Reader, inMemory int64, dir func() (string, error)) (Blob, error) {
	p := &Pile{}
	b, err := p.Add(data, inMemory, dir)
	switch {
	case err != nil:
		p.Close() // the first error says what is wrong
		return nil, err
	case p.file != nil:
		return p.file, nil
	}
	return b, nil
}

// A Pile keeps what comes from many streams, one after the other, in memory or in one file for
// all, which goes when the pile is closed. Only one goroutine may add to it.
type Pile struct{ file *spooled }

// Close removes the file.
func (p *Pile) Close() error {
	if p.file == nil {
		return nil
	}
	return p.file.Close()
}

// Add is Spool for one more stream; closing the blob does nothing.
func (p *Pile) Add(data io.Reader, inMemory int64, dir func() (string, error)) (Blob, error) {
	var b bytes.Buffer
	if _, err := io.CopyN(&b, data, inMemory+1); err != nil && err != io.EOF {
		return nil, err
	}
	if int64(b.Len()) <= inMemory {
		return Memory(b.Bytes()), nil
	}
	if p.file == nil {
		in := ""
		if dir != nil {
			var err error
			if in, err = dir(); err != nil {
				return nil, err
			}
		}
		var err error
		if p.file, err = newSpooled(in); err != nil {
			return nil, err
		}
	}
	from := p.file.size
	size, err := io.Copy(&appending{p.file, from}, io.MultiReader(&b, data))
	if err != nil {
		return nil, err
	}
	p.file.size += size
	return Section(p.file, from, size), nil
}

// appending writes behind what is there.
type appending struct {
	to *spooled
	at int64
}

func (a *appending) Write(p []byte) (int, error) {
	n, err := a.to.file.WriteAt(p, a.at)
	a.at += int64(n)
	return n, fault.Writing(a.to.file.Name(), err)
}

// spooled is a file for a while.
type spooled struct {
	file *folder.Temporary
	size int64
}

func newSpooled(dir string) (*spooled, error) {
	f, err := folder.NewTemporary(dir)
	if err != nil {
		return nil, err
	}
	return &spooled{file: f}, nil
}

func (s *spooled) ReadAt(p []byte, at int64) (int, error) { return s.file.ReadAt(p, at) }
func (s *spooled) Size() int64                            { return s.size }
func (s *spooled) Files() []File                          { return nil }

func (s *spooled) Close() error { return s.file.Close() }
