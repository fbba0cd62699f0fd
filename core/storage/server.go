package storage

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"sync"
	"time"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/remote"
)

// server is a folder at an address, which ends in a slash.
type server struct {
	ctx    context.Context
	at     *remote.Address
	cancel func() // nil: nobody waits for less long
}

// made are the folders at addresses that were made, each once in a run.
var made sync.Map

// make makes the folder, if this run has not made it.
func (s *server) make() error {
	if _, done := made.Load(s.at.String()); done {
		return nil
	}
	if err := s.at.MakeFolder(s.ctx); err != nil {
		return fault.Unwritten(s.at.String(), err)
	}
	made.Store(s.at.String(), true)
	return nil
}

func (s *server) child(name string) *remote.Address { return s.at.Sibling(name) }

func (s *server) Path(name string) string { return s.child(name).String() }

func (s *server) Lstat(name string) (fs.FileInfo, error) { return lstat(s.ctx, s.child(name)) }

func lstat(ctx context.Context, at *remote.Address) (fs.FileInfo, error) {
	info, err := at.Now(ctx)
	if err != nil {
		return nil, fault.At(at.String(), err)
	}
	info.Folder = info.Folder || at.IsFolder()
	return blob.Info{Info: info, At: at}, nil
}

func (s *server) Names() (names []string, err error) {
	infos, err := s.at.List(s.ctx)
	for _, info := range infos {
		if info.Below == "" {
			names = append(names, info.Name)
		}
	}
	return names, fault.At(s.at.String(), err)
}

func (s *server) OpenToRead(name string) (Reader, error) {
	f, err := blob.FindAt(s.ctx, s.child(name))
	if err == nil && f.Info == nil {
		err = fault.At(f.Path, fault.New(fault.Unreadable, "%w", remote.ErrMissing))
	}
	if err != nil {
		return nil, err
	}
	data, err := f.Data()
	if err != nil {
		return nil, fault.At(f.Path, err)
	}
	return &opened{io.NewSectionReader(data, 0, data.Size()), data, f.Info}, nil
}

// opened is a file at an address, from its start.
type opened struct {
	*io.SectionReader
	data blob.Blob
	info fs.FileInfo
}

func (o *opened) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *opened) Close() error               { return o.data.Close() }

func (s *server) Create(name string, _ fs.FileMode) (File, error) {
	f, err := s.child(name).Create(s.ctx)
	if err != nil {
		return nil, fault.Unwritten(s.at.String(), err)
	}
	return &located{f, s.at.String()}, nil
}

// located is a file whose errors say where they happened, and that it could not be written.
type located struct {
	remote.File
	at string // of its folder
}

func (l *located) Write(p []byte) (int, error) {
	n, err := l.File.Write(p)
	return n, fault.Unwritten(l.at, err)
}

func (l *located) WriteAt(p []byte, at int64) (int, error) {
	n, err := l.File.WriteAt(p, at)
	return n, fault.Unwritten(l.at, err)
}

func (l *located) Sync() error  { return fault.Unwritten(l.at, l.File.Sync()) }
func (l *located) Close() error { return fault.Unwritten(l.at, l.File.Close()) }

func (s *server) Move(name string, seen fs.FileInfo, to Folder, newName string) error {
	return s.move(name, seen, to, newName, false)
}

func (s *server) MoveOver(name string, seen fs.FileInfo, to Folder, newName string) error {
	return s.move(name, seen, to, newName, true)
}

func (s *server) move(name string, seen fs.FileInfo, to Folder, newName string, replace bool) error {
	there, is := to.(*server)
	if !is {
		return ErrCrosses
	}
	target, err := s.at.OnSameHost(there.Path(newName))
	if err == nil {
		err = s.child(name).Rename(s.ctx, target, replace, version(seen))
	}
	return fault.Unwritten(s.Path(name), err)
}

func (s *server) Remove(name string, seen fs.FileInfo) error {
	return fault.Unwritten(s.Path(name), s.child(name).Remove(s.ctx, version(seen)))
}

// version is what a server was seen to say of a file; nil: nothing.
func version(seen fs.FileInfo) *remote.Info {
	if info, is := seen.(blob.Info); is {
		return &info.Info
	}
	return nil
}

func (s *server) MakeFolder(name string) error {
	return fault.Unwritten(s.Path(name), s.child(name+"/").MakeNew(s.ctx))
}

// RemoveFolder looks first: to a WebDAV server, a folder is all that is in it (RFC 4918, section 9.6.1).
func (s *server) RemoveFolder(name string) error {
	in := &server{ctx: s.ctx, at: s.child(name + "/")}
	names, err := in.Names()
	if _, missing := s.Lstat(name); err != nil && errors.Is(missing, fs.ErrNotExist) {
		err = missing
	} else if err == nil && len(names) > 0 {
		err = fault.New(fault.Unwritable, "it is not empty: %w", fs.ErrExist)
	}
	if err == nil {
		err = in.at.Remove(s.ctx, nil)
	}
	return fault.Unwritten(s.Path(name), err)
}

func (s *server) Begun(patience time.Duration) Folder {
	ctx, cancel := context.WithoutCancel(s.ctx), func() {}
	if patience > 0 {
		ctx, cancel = context.WithTimeout(ctx, patience)
	}
	return &server{ctx, s.at, cancel}
}

func (s *server) Close() {
	if s.cancel != nil {
		s.cancel()
	}
}

// To makes a server a Descent.
func (s *server) To(rel string, create bool) (Folder, error) {
	in := s
	if rel != "." {
		in = &server{ctx: s.ctx, at: s.child(rel + "/")}
	}
	if create {
		if err := in.make(); err != nil {
			return nil, err
		}
	}
	return in, nil
}
