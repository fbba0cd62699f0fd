package sftp

import (
	"context"
	"errors"
	"io"
	"net/url"
	"os"
	"path"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// An upload is a file that is written. What the server has not confirmed is kept, and sent again
// on another connection where one is lost.
type upload struct {
	client *client
	ctx    context.Context
	at     *url.URL
	size   int64
	block  []byte // not sent yet
	under  *errgroup.Group

	mu   sync.Mutex
	file *sftp.File
	of   *session // that the file is open on
	made bool
}

// Create is that of wire.Protocol.
func (c *client) Create(ctx context.Context, at *url.URL) (wire.File, error) {
	u := &upload{client: c, ctx: ctx, at: at}
	u.start()
	return u, writing(u.do(func(*session, *sftp.File) error { return nil }))
}

func (u *upload) start() {
	u.under = &errgroup.Group{}
	u.under.SetLimit(blocks)
}

// do does something with the file, opened again where it is open on another connection.
func (u *upload) do(what func(s *session, f *sftp.File) error) error {
	return u.client.do(u.ctx, u.at, func(s *session) error {
		f, err := u.on(s)
		if err == nil {
			err = what(s, f)
		}
		return err
	})
}

func (u *upload) on(s *session) (f *sftp.File, err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.of == s {
		return u.file, nil
	}
	how := os.O_RDWR
	if !u.made {
		how |= os.O_CREATE | os.O_EXCL
	}
	if f, err = s.OpenFile(pathOf(u.at), how); err != nil {
		if _, there := s.Lstat(pathOf(u.at)); failed(err) && there == nil {
			err = wire.ErrThere
		}
		return nil, err
	}
	u.file, u.of, u.made = f, s, true
	return f, nil
}

// Write sends blocks, several at a time.
func (u *upload) Write(p []byte) (n int, err error) {
	for n < len(p) {
		if u.block == nil {
			u.block = buffers.Get().(*[block]byte)[:0]
		}
		m := min(block-len(u.block), len(p)-n)
		u.block = append(u.block, p[n:n+m]...)
		n += m
		if len(u.block) == block {
			if err := u.send(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// send sends the block.
func (u *upload) send() error {
	if u.ctx.Err() != nil {
		return u.ctx.Err()
	}
	data, at := u.block, u.size
	u.size += int64(len(data))
	u.block = nil
	u.under.Go(func() error {
		err := u.writeAt(data, at)
		if err == nil { // else it may still be being sent
			buffers.Put((*[block]byte)(data[:block]))
		}
		return err
	})
	return nil
}

func (u *upload) writeAt(p []byte, at int64) error {
	return u.explain(u.do(func(s *session, f *sftp.File) error {
		s.writes.enter()
		_, err := f.WriteAt(p, at)
		s.writes.leave(err == nil)
		if err == nil {
			s.passed.Add(int64(len(p)))
		}
		return err
	}))
}

// explain says of a server that refuses to take more whether it has room.
func (u *upload) explain(err error) error {
	if !failed(err) {
		return writing(err)
	}
	var room *sftp.StatVFS
	asked := u.client.do(u.ctx, u.at, func(s *session) (err error) {
		room, err = s.StatVFS(path.Dir(pathOf(u.at)))
		return err
	})
	if asked == nil && room.FreeSpace() < block {
		return fault.New(fault.Unwritable, "no space is left on the server")
	}
	return writing(err)
}

// settle waits for what is under way.
func (u *upload) settle() error {
	var err error
	if len(u.block) > 0 {
		err = u.send()
	}
	if under := u.under.Wait(); err == nil {
		err = under
	}
	u.start()
	return err
}

// WriteAt writes over what was written.
func (u *upload) WriteAt(p []byte, at int64) (int, error) {
	if err := u.settle(); err != nil {
		return 0, err
	}
	return len(p), u.writeAt(p, at)
}

// ReadAt reads what was written.
func (u *upload) ReadAt(p []byte, at int64) (n int, err error) {
	if err := u.settle(); err != nil {
		return 0, err
	}
	end := false
	err = u.do(func(_ *session, f *sftp.File) (err error) {
		if n, err = f.ReadAt(p, at); err == io.EOF {
			end, err = true, nil
		}
		return err
	})
	if end {
		return n, io.EOF
	}
	return n, reading(err)
}

// Sync is that of wire.File. That all of it arrived, the server is asked.
func (u *upload) Sync() error {
	if err := u.settle(); err != nil {
		return err
	}
	return u.explain(u.do(func(_ *session, f *sftp.File) error {
		info, err := f.Stat()
		if err == nil && info.Size() != u.size {
			return fault.New(fault.Unwritable, "the server has %d bytes of the %d that were sent", info.Size(), u.size)
		}
		if err == nil {
			err = f.Sync()
		}
		if status, is := errors.AsType[*sftp.StatusError](err); is && status.FxCode() == sftp.ErrSSHFxOpUnsupported {
			return nil // it cannot be asked for that
		}
		return err
	}))
}

// Close is that of wire.File.
func (u *upload) Close() error {
	_ = u.under.Wait() // where it matters, Sync has said what is wrong
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.file == nil {
		return nil
	}
	err := u.of.wait(u.ctx, u.file.Close)
	u.file, u.of = nil, nil
	if errors.As(err, new(*wire.Lost)) { // and with it the file was closed
		return nil
	}
	return writing(err)
}
