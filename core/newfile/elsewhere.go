package newfile

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"sync"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/disposal"
	"widecrate/core/place"
	"widecrate/core/remote"
)

// elsewhere are new files in a folder at an address. They are hidden under names that say whose
// they are: there are no locks.
type elsewhere struct {
	ctx    context.Context
	folder *remote.Address
	prefix string
	hidden []*remote.Address
	olds   map[string]*disposal.OldAt // what they may replace, by name
}

// prepared are the folders that were made, and cleared of what dead runs left, each once in a run.
var prepared sync.Map

func createElsewhere(ctx context.Context, folder *remote.Address) (*elsewhere, error) {
	if _, begun := prepared.Load(folder.String()); !begun {
		if err := folder.MakeFolder(ctx); err != nil {
			return nil, disposal.Unwritable(folder, err)
		}
		// What cannot be listed or removed is no reason to do nothing.
		if there, err := folder.List(ctx); err == nil {
			for _, info := range claim.DeadElsewhere(there, time.Now()) {
				_ = folder.Listed(info).Remove(ctx)
			}
		}
		prepared.Store(folder.String(), true)
	}
	return &elsewhere{ctx: ctx, folder: folder, prefix: claim.NewFolder(), olds: map[string]*disposal.OldAt{}}, nil
}

// Next starts the next file.
func (e *elsewhere) Next() (File, error) {
	at := e.folder.Sibling(fmt.Sprintf("%s-%d", e.prefix, len(e.hidden)))
	f, err := at.Create(e.ctx)
	if err != nil {
		return nil, disposal.Unwritable(e.folder, err)
	}
	e.hidden = append(e.hidden, at)
	return &located{f, e.folder}, nil
}

// located is a file whose errors say where they happened, and that it could not be written.
type located struct {
	remote.File
	folder *remote.Address
}

func (l *located) Write(p []byte) (int, error) {
	n, err := l.File.Write(p)
	return n, disposal.Unwritable(l.folder, err)
}

func (l *located) WriteAt(p []byte, at int64) (int, error) {
	n, err := l.File.WriteAt(p, at)
	return n, disposal.Unwritable(l.folder, err)
}

func (l *located) Sync() error  { return disposal.Unwritable(l.folder, l.File.Sync()) }
func (l *located) Close() error { return disposal.Unwritable(l.folder, l.File.Close()) }

// Find finds the i-th.
func (e *elsewhere) Find(i int) (blob.File, error) { return blob.FindAt(e.ctx, e.hidden[i]) }

// Over lets one of the files replace what was seen there.
func (e *elsewhere) Over(old Old) {
	if o := old.(*disposal.OldAt); o.There() {
		e.olds[place.Base(o.Path())] = o
	}
}

// Commit is that of NewFiles, and is not interrupted. A single file takes the place of what it
// replaces in one step; where there are several, that is put aside first.
func (e *elsewhere) Commit(names []string) error {
	if err := e.ctx.Err(); err != nil {
		return errors.Join(err, e.Discard())
	}
	e.ctx = context.WithoutCancel(e.ctx)
	for _, name := range names {
		if old := e.olds[name]; old != nil {
			if err := old.Still(); err != nil {
				return errors.Join(err, e.Discard())
			}
		}
	}
	if len(names) == 1 {
		err := e.place(e.hidden[0], names[0], e.olds[names[0]] != nil)
		if err != nil {
			err = errors.Join(err, e.Discard())
		}
		return err
	}
	aside := map[int]bool{}
	for i := len(names) - 1; i >= 0; i-- {
		old, to := e.olds[names[i]], e.folder.Sibling(names[i])
		var err error
		if old != nil {
			if err = old.PutAside(e.aside(i)); err == nil {
				aside[i] = true
			}
		}
		if err == nil {
			err = e.place(e.hidden[i], names[i], false)
		}
		if err == nil {
			continue
		}
		for done := i; done < len(names); done++ {
			if done > i {
				err = errors.Join(err, disposal.Unwritable(to, e.folder.Sibling(names[done]).Rename(e.ctx, e.hidden[done], false)))
			}
			if aside[done] {
				err = errors.Join(err, e.olds[names[done]].Back(e.aside(done)))
			}
		}
		return errors.Join(err, e.Discard())
	}
	var failed error
	for i := range aside { // all of the new ones are there
		failed = errors.Join(failed, e.olds[names[i]].Gone(e.aside(i)))
	}
	return failed
}

// aside is where what the i-th file replaces lies meanwhile: nobody clears it away.
func (e *elsewhere) aside(i int) *remote.Address {
	return e.folder.Sibling(e.hidden[i].Name() + claim.MovedSuffix)
}

func (e *elsewhere) place(hidden *remote.Address, name string, replace bool) error {
	to := e.folder.Sibling(name)
	err := hidden.Rename(e.ctx, to, replace)
	if errors.Is(err, remote.ErrThere) {
		return Existing(to.String())
	}
	return disposal.Unwritable(to, err)
}

// Discard removes what was written so far, also where the run was interrupted.
func (e *elsewhere) Discard() error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(e.ctx), patience)
	defer cancel()
	var failed error
	for _, at := range e.hidden {
		if err := at.Remove(ctx); err != nil && !errors.Is(err, remote.ErrMissing) && failed == nil {
			failed = disposal.Unwritable(at, err)
		}
	}
	return failed
}

// patience bounds how long is waited for a server to remove what was not finished: the next run
// does that, too.
const patience = 10 * time.Second

// sent is a single file at an address. It is written in order.
type sent struct {
	io.Writer // of the file
	file      File
	files     Files
	name      string
	size      int64
	sum       hash.Hash // SHA-256
	closed    bool
}

func (s *sent) Write(p []byte) (int, error) {
	n, err := s.Writer.Write(p)
	s.size += int64(n)
	s.sum.Write(p[:n]) // never fails
	return n, err
}

func (s *sent) Size() (int64, error) { return s.size, nil }

// Sum is the SHA-256 of what was written.
func (s *sent) Sum() []byte { return s.sum.Sum(nil) }

// finish completes the file, hidden.
func (s *sent) finish() error {
	if s.closed {
		return nil
	}
	err := s.file.Sync()
	if closed := s.file.Close(); err == nil {
		err = closed
	}
	s.closed = true
	return err
}

// Open reads what the server has.
func (s *sent) Open() (blob.Blob, error) {
	if err := s.finish(); err != nil {
		return nil, err
	}
	f, err := s.files.Find(0)
	if err != nil {
		return nil, err
	}
	return f.Data()
}

func (s *sent) Commit() error {
	if err := s.finish(); err != nil {
		return errors.Join(err, s.files.Discard())
	}
	return s.files.Commit([]string{s.name})
}

func (s *sent) Discard() error {
	if !s.closed {
		s.file.Close() // it goes
	}
	return s.files.Discard()
}
