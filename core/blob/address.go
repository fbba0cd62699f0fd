package blob

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"time"

	"widecrate/core/fault"
	"widecrate/core/remote"
)

// FindAt returns the identity of what lies at an address, with a way to read it until
// ctx is cancelled; without Info there is nothing. What has no ranges is kept when it is
// opened first, and what does not say its size at once.
func FindAt(ctx context.Context, a *remote.Address) (File, error) {
	f, err := IdentifyAt(ctx, a)
	if errors.Is(err, remote.ErrMissing) {
		return File{Path: a.String(), Remote: true}, nil
	}
	if err != nil {
		return f, err
	}
	info := f.Info.(Info)
	whole := &fetched{ctx: ctx, from: a}
	if info.Info.Size < 0 {
		data, err := whole.open()
		if err != nil {
			return f, fault.At(f.Path, err)
		}
		info.Info.Size = data.Size()
		f.Info, f.Open = info, whole.open
		return f, nil
	}
	f.Open = func() (Blob, error) {
		resource, err := a.Open(ctx, firstStep)
		if err != nil {
			return nil, err
		}
		switch {
		case !info.Same(&resource.Info):
			err = remote.ErrChanged
		case !resource.Ranges:
			resource.Close()
			return whole.open()
		}
		if err != nil {
			resource.Close()
			return nil, err
		}
		return NewRemote(ctx, resource, firstStep), nil
	}
	return f, nil
}

// fetchedInMemory is how much of a part that has no ranges is kept in memory.
const fetchedInMemory = 1 << 20

// fetched is what was fetched as a whole, once; it is there until ctx is cancelled.
type fetched struct {
	ctx  context.Context
	from *remote.Address
	once sync.Once
	data Blob
	err  error
}

func (f *fetched) open() (Blob, error) {
	f.once.Do(func() {
		var resource *remote.Resource
		if resource, f.err = f.from.Open(f.ctx, 0); f.err != nil {
			return
		}
		in := resource.Reader(f.ctx)
		defer in.Close()
		if f.data, f.err = Spool(in, fetchedInMemory, nil); f.err == nil {
			context.AfterFunc(f.ctx, func() { f.data.Close() }) // for a while: nothing could be lost
		}
	})
	return lent{f.data}, f.err
}

// lent is closed by its owner.
type lent struct{ Blob }

func (lent) Close() error { return nil }

// IdentifyAt returns the identity of what lies at an address, with ranges or without.
func IdentifyAt(ctx context.Context, a *remote.Address) (File, error) {
	info, err := a.Stat(ctx)
	if err == nil && info.Folder {
		err = fault.New(fault.Unreadable, "it is a folder").Advise("end the address with a slash")
	}
	return remoteFile(a, info), fault.At(a.String(), err)
}

// Info is the identity of what lies at an address.
type Info struct {
	remote.Info
	At *remote.Address
}

// The methods of fs.FileInfo.
func (i Info) Name() string       { return i.Info.Name }
func (i Info) Size() int64        { return i.Info.Size }
func (i Info) ModTime() time.Time { return i.Modified }
func (i Info) IsDir() bool        { return i.Mode().IsDir() }
func (i Info) Sys() any           { return nil }

// Mode says what it is; all may be read.
func (i Info) Mode() fs.FileMode {
	switch {
	case i.Link:
		return fs.ModeSymlink | 0o777
	case i.Folder:
		return fs.ModeDir | 0o555
	}
	return 0o444
}

// RemoteFile is the identity of what lies at an address; of a link, that of what it leads to.
func RemoteFile(r *remote.Resource) File { return remoteFile(r.Address, r.Info) }

func remoteFile(a *remote.Address, info remote.Info) File {
	info.Link = false
	return File{Path: a.String(), Info: Info{info, a}, Remote: true, Tag: info.ETag}
}
