package blob

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"time"

	"widecrate/core/fault"
	"widecrate/core/web"
)

// FindAt returns the identity of what lies at an address, with a way to read it until
// ctx is cancelled; without Info there is nothing. What has no ranges is kept when it is
// opened first, and what does not say its size at once.
func FindAt(ctx context.Context, a *web.Address) (File, error) {
	f := File{Path: a.String(), Remote: true}
	resource, err := a.Open(ctx, 1)
	if errors.Is(err, web.ErrMissing) {
		return f, nil
	}
	if err != nil {
		return f, fault.At(f.Path, err)
	}
	resource.Close()
	f.Info, f.Tag = Info{resource}, resource.ETag
	if !resource.Ranges {
		whole := &fetched{ctx: ctx, from: a}
		f.Open = whole.open
		if resource.Size < 0 {
			data, err := whole.open()
			if err != nil {
				return f, fault.At(f.Path, err)
			}
			resource.Size = data.Size()
		}
		return f, nil
	}
	f.Open = func() (Blob, error) {
		again, err := a.Open(ctx, firstStep)
		if err != nil {
			return nil, err
		}
		if !again.Ranges || again.Size != resource.Size || again.ETag != resource.ETag {
			again.Close()
			return nil, fault.New(fault.Unreadable, "it changed while it was read").Advise("run it again when nothing writes to it any more")
		}
		return NewRemote(ctx, again, firstStep), nil
	}
	return f, nil
}

// fetchedInMemory is how much of a part that has no ranges is kept in memory.
const fetchedInMemory = 1 << 20

// fetched is what was fetched as a whole, once; it is there until ctx is cancelled.
type fetched struct {
	ctx  context.Context
	from *web.Address
	once sync.Once
	data Blob
	err  error
}

func (f *fetched) open() (Blob, error) {
	f.once.Do(func() {
		var resource *web.Resource
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
func IdentifyAt(ctx context.Context, a *web.Address) (File, error) {
	resource, err := a.Open(ctx, 1)
	if err != nil {
		return File{}, fault.At(a.String(), err)
	}
	resource.Close()
	f := RemoteFile(resource)
	f.Path = a.String()
	return f, nil
}

// Info is the identity of what lies at an address.
type Info struct{ *web.Resource }

// The methods of fs.FileInfo.
func (i Info) Name() string       { return i.Resource.Name }
func (i Info) Size() int64        { return i.Resource.Size }
func (i Info) Mode() fs.FileMode  { return 0o444 }
func (i Info) ModTime() time.Time { return i.Modified }
func (i Info) IsDir() bool        { return false }
func (i Info) Sys() any           { return nil }

// RemoteFile is the identity of what lies at an address.
func RemoteFile(r *web.Resource) File {
	return File{Path: r.Address.String(), Info: Info{r}, Remote: true, Tag: r.ETag}
}
