package sftp

import (
	"context"
	"errors"
	"io"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// A resource is a file that is read: the one that had the name when it was opened.
type resource struct {
	*wire.Resource
	client *client
	at     *url.URL

	mu   sync.Mutex
	file *sftp.File
	of   *session // that the file is open on
}

// Open is that of wire.Protocol.
func (c *client) Open(ctx context.Context, at *url.URL, _ int64) (*wire.Resource, error) {
	r := &resource{client: c, at: at, Resource: &wire.Resource{Ranges: true, Host: c.Of(at)}}
	r.Source = r
	err := c.do(ctx, at, func(s *session) error {
		started := time.Now()
		file, info, err := open(s, at)
		if err == nil {
			r.Host.Measured(time.Since(started)/2, 0, 0)
			r.file, r.of, r.Info = file, s, info
		}
		return err
	})
	return r.Resource, reading(err)
}

// open opens a file.
func open(s *session, at *url.URL) (*sftp.File, wire.Info, error) {
	file, err := s.Open(pathOf(at))
	if err != nil {
		return nil, wire.Info{}, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Unreadable, "it is no file")
		if info.IsDir() {
			err = fault.New(fault.Unreadable, "it is a folder").Advise("end the address with a slash")
		}
	}
	if err != nil {
		file.Close()
		return nil, wire.Info{}, err
	}
	return file, infoOf(wire.NameOf(at), info), nil
}

// on opens the file again where it is open on another connection: it must be as it was.
func (r *resource) on(s *session) (*sftp.File, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == s {
		return r.file, nil
	}
	file, info, err := open(s, r.at)
	if err != nil {
		return nil, err
	}
	if !r.Same(&info) {
		file.Close()
		return nil, wire.ErrChanged
	}
	r.file, r.of = file, s
	return file, nil
}

// Fetch is that of wire.Source.
func (r *resource) Fetch(ctx context.Context, ranges []wire.Range, take func(at int64, p []byte) error) error {
	left := slices.Clone(ranges)
	if last := &left[len(left)-1]; last.To == wire.Unknown {
		last.To = r.Size
	}
	err := r.client.Again(ctx, func() (progress bool, err error) {
		s, err := r.client.session(ctx, r.at)
		if err != nil {
			return false, err
		}
		var file *sftp.File
		if err = s.wait(ctx, func() error { file, err = r.on(s); return err }); err != nil {
			return false, err
		}
		first, passed := time.Time{}, int64(0) // of the bytes after the first ones, which a round trip comes before
		err = s.pass(ctx, file, left, func(i int, p []byte) error {
			at := left[i].From
			left[i].From += int64(len(p))
			if first.IsZero() {
				first = time.Now()
			} else {
				passed += int64(len(p))
			}
			s.passed.Add(int64(len(p)))
			if err := take(at, p); err != nil {
				return &stopped{err}
			}
			return nil
		})
		r.Host.Measured(0, passed, time.Since(first))
		if err == nil { // nothing else would tell that somebody wrote to it
			err = s.wait(ctx, func() error {
				now, err := file.Stat()
				if err != nil {
					return err
				}
				if info := infoOf(r.Name, now); !r.Same(&info) {
					return wire.ErrChanged
				}
				return nil
			})
		}
		return s.passed.Load() > 0, err
	})
	if s, is := errors.AsType[*stopped](err); is {
		return s.error
	}
	return reading(err)
}

// stopped is the error of whoever takes the bytes.
type stopped struct{ error }

// piece is a block that comes.
type piece struct {
	of   int // range
	data *[block]byte
	n    int
	done chan error
}

// pass reads ranges, several blocks at a time, and passes them on in order.
func (s *session) pass(ctx context.Context, file *sftp.File, ranges []wire.Range, take func(of int, p []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	coming := make(chan *piece, blocks-1)
	asked := slices.Clone(ranges)
	go func() {
		defer close(coming)
		for i, r := range asked {
			for at := r.From; at < r.To; at += block {
				p := &piece{of: i, data: buffers.Get().(*[block]byte), n: int(min(block, r.To-at)), done: make(chan error, 1)}
				s.reads.enter()
				go func() {
					n, err := file.ReadAt(p.data[:p.n], at)
					s.reads.leave(n == p.n)
					switch {
					case n == p.n:
						err = nil
					case err == io.EOF:
						err = wire.ErrChanged
					}
					p.done <- err
				}()
				select {
				case coming <- p:
				case <-ctx.Done():
					return
				}
			}
		}
	}()
	for p := range coming {
		var err error
		s.line.enter() // for the server, and not for whoever takes the bytes
		select {
		case err = <-p.done:
		case <-ctx.Done():
			err = ctx.Err()
		}
		s.line.leave()
		if err == nil {
			err = take(p.of, p.data[:p.n])
		}
		if err != nil {
			return s.lost(err)
		}
		buffers.Put(p.data)
	}
	return ctx.Err()
}

// Close is that of wire.Source.
func (r *resource) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if file := r.file; file != nil {
		go file.Close() // nobody waits for the answer
		r.file, r.of = nil, nil
	}
}
