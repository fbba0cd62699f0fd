package remote

import (
	"context"
	"io"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// A Resource is what lies at an address, as it was when it was opened.
type Resource struct {
	*wire.Resource
	Address *Address

	client *Client
}

// Open asks for the first bytes of what lies at an address, with head 0 for all of it, or
// below that for the last bytes, and finds out from the answer what there is to know. Where that fails the
// error is of kind fault.Unreadable.
func (a *Address) Open(ctx context.Context, head int64) (*Resource, error) {
	r, err := a.protocol.Open(ctx, a.url, head)
	if err != nil {
		return nil, err
	}
	a.client.open.Add(1)
	return &Resource{r, a, a.client}, nil
}

// Close gives up what is held open.
func (r *Resource) Close() {
	r.client.open.Add(-1)
	r.Source.Close()
}

// Reader reads all of it, until ctx is cancelled; see Fetch. Closing it closes the
// resource.
func (r *Resource) Reader(ctx context.Context) io.ReadCloser {
	ctx, cancel := context.WithCancel(ctx)
	from, to := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		to.CloseWithError(fault.Guard(func() error {
			return r.Fetch(ctx, []Range{{From: 0, To: Unknown}}, func(_ int64, p []byte) error {
				_, err := to.Write(p)
				return err
			})
		}))
	}()
	return &reader{from, func() {
		cancel()
		from.Close()
		<-done
		r.Close()
	}}
}

type reader struct {
	io.Reader
	stop func()
}

func (r *reader) Close() error {
	r.stop()
	return nil
}

// PackedOnceMore is the error of a server that packs what it sends, and how it says that.
func PackedOnceMore(encoding string) error { return wire.PackedOnceMore(encoding) }

// memory is what all resources together may hold ahead of their readers.
const memory = 16 << 20

// Share is how many bytes one of those that are open may hold ahead of its reader.
func (r *Resource) Share() int64 {
	return max(memory/int64(max(r.client.open.Load(), 1)), 1<<20)
}
