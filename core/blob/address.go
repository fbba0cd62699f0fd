package blob

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"widecrate/core/fault"
	"widecrate/core/web"
)

// FindAt returns the identity of what lies at an address, with a way to read it until
// ctx is cancelled; without Info there is nothing. It has to have ranges.
func FindAt(ctx context.Context, a *web.Address) (File, error) {
	f := File{Path: a.String()}
	resource, err := a.Open(ctx, 1)
	if errors.Is(err, web.ErrMissing) {
		return f, nil
	}
	if err != nil {
		return f, fault.At(f.Path, err)
	}
	resource.Close()
	if !resource.Ranges {
		return f, fault.At(f.Path, fault.New(fault.Unreadable, "its server sends no parts of files, and so the parts of a set cannot be read as one").
			Advise("fetch all parts first"))
	}
	f.Info = Info{resource}
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

// IdentifyAt returns the identity of what lies at an address, with ranges or without.
func IdentifyAt(ctx context.Context, a *web.Address) (File, error) {
	resource, err := a.Open(ctx, 1)
	if err != nil {
		return File{}, fault.At(a.String(), err)
	}
	resource.Close()
	return File{Path: a.String(), Info: Info{resource}}, nil
}

// Info is the identity of what lies at an address.
type Info struct{ *web.Resource }

// The methods of fs.FileInfo.
func (i Info) Name() string       { return i.Resource.Name }
func (i Info) Size() int64        { return i.Resource.Size }
func (i Info) Mode() fs.FileMode  { return 0o444 }
func (i Info) ModTime() time.Time { return i.Modified }
func (i Info) IsDir() bool        { return false }
func (i Info) Sys() any           { return i.ETag }
