package web

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/remote/wire"
)

// An upload is a file that is written: on this machine, until all of it is there, as a request
// may have to be made again.
type upload struct {
	*folder.Temporary // where it is kept
	client            *Client
	ctx               context.Context
	at                *url.URL
}

// Create is that of wire.Protocol.
func (c *Client) Create(ctx context.Context, at *url.URL) (wire.File, error) {
	f, err := folder.NewTemporary("")
	if err != nil {
		return nil, err
	}
	return &upload{f, c, ctx, at}, nil
}

// Sync sends the file (RFC 9110, section 9.3.4), if nothing is there yet.
func (u *upload) Sync() error {
	size, err := u.Seek(0, io.SeekEnd)
	if err != nil {
		return fault.Writing("", err)
	}
	err = u.client.Again(u.ctx, func() (bool, error) {
		put := func(headers func(http.Header)) (*answer, error) {
			a, _, err := u.client.read(u.ctx, http.MethodPut, u.at, sized{io.NewSectionReader(u.File, 0, size)}, headers)
			return a, err
		}
		a, err := put(func(h http.Header) { h.Set("If-None-Match", "*") })
		if err == nil && a.StatusCode == http.StatusPreconditionFailed {
			switch there, failed := u.arrived(size); {
			case failed != nil:
				return false, failed
			case there: // an earlier request arrived, but its answer was lost
				return false, nil
			case wire.Unfinished(wire.NameOf(u.at)) != "": // part of one did: the name is nobody else's
				a, err = put(nil)
			}
		}
		if err == nil {
			err = written(a, http.MethodPut)
		}
		return false, err
	})
	if err != nil {
		return err
	}
	now, err := u.client.Stat(u.ctx, u.at)
	if err == nil && now.Size != size {
		err = fault.New(fault.Unwritable, "the server has %d bytes of the %d that were sent", now.Size, size)
	}
	return err
}

// arrived reports whether what the server has is what is sent.
func (u *upload) arrived(size int64) (bool, error) {
	there, err := u.client.Open(u.ctx, u.at, 0)
	if err != nil {
		return false, err
	}
	defer there.Close()
	same := there.Size == size
	if !same || size == 0 {
		return same, nil
	}
	ours := make([]byte, 64<<10)
	err = there.Fetch(u.ctx, []wire.Range{{From: 0, To: size}}, func(at int64, p []byte) error {
		for len(p) > 0 && same {
			n, err := u.ReadAt(ours[:min(len(p), len(ours))], at)
			if err != nil && err != io.EOF {
				return fault.Writing("", err)
			}
			same = n > 0 && bytes.Equal(ours[:n], p[:n])
			at, p = at+int64(n), p[n:]
		}
		return nil
	})
	return same, err
}

// sized is a body that says how long it is.
type sized struct{ *io.SectionReader }

func (s sized) Len() int { return int(s.Size()) }

// Rename is that of wire.Protocol (RFC 4918, section 9.9).
func (c *Client) Rename(ctx context.Context, from, to *url.URL, replace bool, seen *wire.Info) error {
	again, err := c.change(ctx, "MOVE", from, func(h http.Header) {
		h.Set("Destination", to.String())
		h.Set("Overwrite", map[bool]string{true: "T", false: "F"}[replace])
		still(h, seen)
	})
	if err != nil && !again { // else an earlier request may have arrived
		_, missing := c.Stat(ctx, from)
		switch {
		case errors.Is(missing, wire.ErrMissing): // of which servers say different things
			err = fault.New(fault.Unwritable, "%w", wire.ErrMissing)
		case errors.Is(err, wire.ErrThere) && (replace || !c.isThere(ctx, to)):
			err = fault.New(fault.Refused, "%w", wire.ErrStale)
		}
		return err
	}
	if _, missing := c.Stat(ctx, to); missing != nil {
		return undone(cmp.Or(err, missing))
	}
	if gone := c.gone(ctx, from); gone != nil {
		return cmp.Or(err, gone)
	}
	return nil
}

// Remove is that of wire.Protocol.
func (c *Client) Remove(ctx context.Context, at *url.URL, seen *wire.Info) error {
	again, err := c.change(ctx, http.MethodDelete, at, func(h http.Header) { still(h, seen) })
	switch {
	case again && (errors.Is(err, wire.ErrMissing) || errors.Is(err, wire.ErrThere) && !c.isThere(ctx, at)): // an earlier request arrived
	case errors.Is(err, wire.ErrThere):
		return fault.New(fault.Refused, "%w", wire.ErrStale)
	case err != nil:
		return err
	}
	return c.gone(ctx, at)
}

// still asks for a change only of what was seen (RFC 9110, section 13.1.1), as far as the server tells versions
// apart.
func still(h http.Header, seen *wire.Info) {
	if seen != nil && seen.ETag != "" && !strings.HasPrefix(seen.ETag, "W/") {
		h.Set("If-Match", seen.ETag)
	}
}

// gone makes sure that nothing is at an address any more: there are servers that say yes to
// anything.
func (c *Client) gone(ctx context.Context, at *url.URL) error {
	_, err := c.Stat(ctx, at)
	switch {
	case errors.Is(err, wire.ErrMissing):
		return nil
	case err == nil:
		err = errors.New("it is still there")
	}
	return undone(err)
}

func undone(err error) error {
	return fault.New(fault.Unwritable, "the server says that it was done, and it was not: %w", err).Advise("have it speak WebDAV there")
}

// MakeFolder is that of wire.Protocol (RFC 4918, section 9.3). Others may make the same folders at
// the same time, or remove one that is empty.
func (c *Client) MakeFolder(ctx context.Context, at *url.URL) error {
	for tries := 1; ; tries++ {
		a, _, err := c.read(ctx, "MKCOL", at, nil, nil)
		if err != nil || a.StatusCode == http.StatusMethodNotAllowed { // it is there
			return err
		}
		err = written(a, "MKCOL")
		again := a.StatusCode == http.StatusConflict && tries < attempts // the one above is missing
		switch {
		case err == nil:
			return nil
		case !again && c.isThere(ctx, at): // somebody else made it
			return nil
		case !again:
			return err
		}
		above := *at
		path := strings.TrimSuffix(at.EscapedPath(), "/")
		above.RawPath = path[:strings.LastIndexByte(path, '/')+1]
		above.Path, _ = url.PathUnescape(above.RawPath)
		if err := c.MakeFolder(ctx, &above); err != nil {
			return err
		}
	}
}

// MakeNew is that of wire.Protocol.
func (c *Client) MakeNew(ctx context.Context, at *url.URL) error {
	a, _, err := c.read(ctx, "MKCOL", at, nil, nil)
	switch {
	case err != nil:
		return err
	case a.StatusCode >= 400 && c.isThere(ctx, at): // of which servers say one thing before, and another in the moment
		return fault.New(fault.Unwritable, "%w", wire.ErrThere)
	}
	return written(a, "MKCOL")
}

// attempts bounds how often a folder is made whose parent vanishes each time.
const attempts = 5

// isThere reports whether there is something.
func (c *Client) isThere(ctx context.Context, at *url.URL) bool {
	_, err := c.Stat(ctx, at)
	return err == nil
}

// change asks for something that changes what is there; again says whether that was asked for before, so that it may
// have been done.
func (c *Client) change(ctx context.Context, method string, at *url.URL, headers func(http.Header)) (again bool, err error) {
	tries := new(atomic.Int32)
	ctx = context.WithValue(ctx, triesKey{}, tries)
	err = c.Again(ctx, func() (bool, error) {
		a, _, err := c.read(ctx, method, at, nil, headers)
		if err == nil {
			err = written(a, method)
		}
		return false, err
	})
	return tries.Load() > 1, err
}

// triesKey is that of the number of times that a request was made, in its context.
type triesKey struct{}

// countTries is called before each time.
func countTries(_ retryablehttp.Logger, request *http.Request, _ int) {
	if tries, counted := request.Context().Value(triesKey{}).(*atomic.Int32); counted {
		tries.Add(1)
	}
}

// written is the error that the status of an answer to a request to write stands for.
func written(a *answer, method string) error {
	switch code := a.StatusCode; {
	case a.Request.Method != method: // what was asked for is not what was done
		return fault.New(fault.Unwritable, "it was redirected to %s", a.Request.URL.Host).Advise("name that address itself")
	case code >= 200 && code < 300 && code != http.StatusMultiStatus:
		return nil
	case code == http.StatusNotFound, code == http.StatusGone, code == http.StatusConflict:
		return fault.New(fault.Unwritable, "the server answered %s: %w", wire.Printable(a.Status), wire.ErrMissing)
	case code == http.StatusPreconditionFailed:
		return fault.New(fault.Unwritable, "the server answered %s: %w", wire.Printable(a.Status), wire.ErrThere)
	case code == http.StatusUnauthorized, code == http.StatusForbidden:
		return fault.New(fault.Unwritable, "the server answered %s", wire.Printable(a.Status)).Suggest(fault.Credentials)
	case code == http.StatusMethodNotAllowed, code == http.StatusNotImplemented:
		return fault.New(fault.Unwritable, "the server answered %s: it does not take changes there", wire.Printable(a.Status)).
			Advise("have it speak WebDAV there, or use an address that can be written to")
	case code == http.StatusInsufficientStorage:
		return fault.New(fault.Unwritable, "the server answered %s: it has no room left", wire.Printable(a.Status))
	}
	return fault.New(fault.Unwritable, "the server answered %s", wire.Printable(a.Status)).Advise("try again later, or ask who runs the server")
}
