// Package sftp reaches what lies at sftp addresses: by the file transfer protocol of SSH, its
// version 3, with many requests under way on one connection to each host. A connection that
// breaks is made anew and taken up at the byte; hosts are known by their keys, or refused.
package sftp

import (
	"context"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// A client is the protocol.
type client struct {
	*wire.Hosts
	keys keys

	mu    sync.Mutex
	slots map[string]*slot // by user and host
}

// New makes a client. A file that cannot be used is of kind fault.Unreadable.
func New(hosts *wire.Hosts) (wire.Protocol, error) {
	c := &client{Hosts: hosts, slots: map[string]*slot{}}
	return c, c.keys.read(hosts)
}

// do does something on a connection to the host of an address, and again on another where one
// is lost.
func (c *client) do(ctx context.Context, at *url.URL, what func(s *session) error) error {
	return c.Again(ctx, func() (bool, error) {
		s, err := c.session(ctx, at)
		if err != nil {
			return false, err
		}
		err = s.wait(ctx, func() error { return what(s) })
		return s.passed.Load() > 0, err
	})
}

// pathOf is the path that an address names: from the root on, or after /~/ from where the
// server starts.
func pathOf(at *url.URL) string {
	p := at.Path
	if rest, home := strings.CutPrefix(p, "/~/"); home {
		return "./" + rest
	}
	if p == "" {
		return "/"
	}
	return p
}

// infoOf is what the server says of a file or folder.
func infoOf(at string, info os.FileInfo) wire.Info {
	return wire.Info{Name: path.Base(at), Folder: info.IsDir(), Size: info.Size(), Modified: info.ModTime(), Whole: true}
}

// Stat is that of wire.Protocol.
func (c *client) Stat(ctx context.Context, at *url.URL) (info wire.Info, err error) {
	err = c.do(ctx, at, func(s *session) error {
		found, err := s.Lstat(pathOf(at))
		link := err == nil && found.Mode()&fs.ModeSymlink != 0
		if link {
			found, err = s.Stat(pathOf(at))
		}
		if err == nil {
			info = infoOf(wire.NameOf(at), found)
			info.Link = link
		}
		return err
	})
	return info, reading(err)
}

// List is that of wire.Protocol.
func (c *client) List(ctx context.Context, folder *url.URL) (all []wire.Info, err error) {
	in := pathOf(folder)
	err = c.do(ctx, folder, func(s *session) error {
		found, err := s.ReadDirContext(ctx, in)
		leadsTo := s.follow(in, found)
		all = make([]wire.Info, 0, len(found))
		for i, one := range found {
			link := one.Mode()&fs.ModeSymlink != 0
			if to := leadsTo[i]; to != nil && !to.IsDir() { // those to folders could lead in circles
				one = called{to, one.Name()}
			}
			if one.IsDir() || one.Mode().IsRegular() {
				info := infoOf(one.Name(), one)
				info.Link = link
				all = append(all, info)
			}
		}
		return err
	})
	return all, reading(err)
}

// follow finds out where the links in a folder lead, several at a time: each is a round trip.
func (s *session) follow(in string, found []os.FileInfo) map[int]os.FileInfo {
	var mu sync.Mutex
	var asking errgroup.Group
	asking.SetLimit(blocks)
	to := map[int]os.FileInfo{}
	for i, one := range found {
		if one.Mode()&fs.ModeSymlink == 0 {
			continue
		}
		asking.Go(func() error {
			if info, err := s.Stat(path.Join(in, one.Name())); err == nil { // one that leads nowhere is nothing
				mu.Lock()
				defer mu.Unlock()
				to[i] = info
			}
			return nil
		})
	}
	_ = asking.Wait() // it never fails
	return to
}

// called is what a link leads to, under its name.
type called struct {
	os.FileInfo
	name string
}

func (c called) Name() string { return c.name }

// Rename is that of wire.Protocol. A plain rename fails where something is (section 6.5 of the
// protocol); there are servers that do not know that, and so they are asked before.
func (c *client) Rename(ctx context.Context, from, to *url.URL, replace bool, _ *wire.Info) error {
	tried := false
	return writing(c.do(ctx, from, func(s *session) error {
		rename := s.Rename
		if !replace {
			if _, err := s.Lstat(pathOf(to)); err == nil && !tried {
				return wire.ErrThere
			}
		}
		if _, can := s.HasExtension("posix-rename@openssh.com"); replace && can {
			rename = s.PosixRename
		}
		err := rename(pathOf(from), pathOf(to))
		if failed(err) && !replace {
			if _, there := s.Lstat(pathOf(to)); there == nil {
				err = wire.ErrThere
			}
		}
		if errors.Is(err, fs.ErrNotExist) && tried { // the answer to an earlier request was lost
			if _, there := s.Lstat(pathOf(to)); there == nil {
				err = nil
			}
		}
		tried = true
		return err
	}))
}

// Remove is that of wire.Protocol.
func (c *client) Remove(ctx context.Context, at *url.URL, _ *wire.Info) error {
	tried := false
	return writing(c.do(ctx, at, func(s *session) error {
		err := s.Client.Remove(pathOf(at))
		if errors.Is(err, fs.ErrNotExist) && tried {
			err = nil
		}
		tried = true
		return err
	}))
}

// MakeFolder is that of wire.Protocol.
func (c *client) MakeFolder(ctx context.Context, at *url.URL) error {
	return writing(c.do(ctx, at, func(s *session) error { return s.MkdirAll(pathOf(at)) }))
}

// MakeNew is that of wire.Protocol.
func (c *client) MakeNew(ctx context.Context, at *url.URL) error {
	return writing(c.do(ctx, at, func(s *session) error {
		err := s.Mkdir(pathOf(at))
		if _, there := s.Lstat(pathOf(at)); failed(err) && there == nil {
			err = wire.ErrThere
		}
		return err
	}))
}

// reading and writing sort what a server says.
func reading(err error) error {
	if fault.Known(err) || err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = fault.New(fault.Unreadable, "%w", wire.ErrMissing).Advise("check the address")
	case errors.Is(err, fs.ErrPermission):
		err = fault.New(fault.Unreadable, "the server gives no right to read it").Advise("ask who runs the server")
	case failed(err):
		err = fault.New(fault.Unreadable, "the server refuses: %s", said(err))
	default:
		err = fault.New(fault.Unreadable, "%w", err)
	}
	return err
}

func writing(err error) error {
	if fault.Known(err) || err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	switch {
	case errors.Is(err, wire.ErrThere):
		err = fault.New(fault.Unwritable, "%w", wire.ErrThere)
	case errors.Is(err, fs.ErrNotExist):
		err = fault.New(fault.Unwritable, "%w", wire.ErrMissing)
	case errors.Is(err, fs.ErrPermission):
		err = fault.New(fault.Unwritable, "the server gives no right to write there").Advise("ask who runs the server")
	case failed(err):
		err = fault.New(fault.Unwritable, "the server refuses: %s", said(err))
	default:
		err = fault.New(fault.Unwritable, "%w", err)
	}
	return err
}

// failed reports whether an error is the server's general one (SSH_FX_FAILURE).
func failed(err error) bool {
	_, is := errors.AsType[*sftp.StatusError](err)
	return is
}

// said is what the server says of it.
func said(err error) string {
	status, _ := errors.AsType[*sftp.StatusError](err)
	return wire.Printable(strings.Trim(strings.TrimPrefix(status.Error(), "sftp: "), `"`))
}
