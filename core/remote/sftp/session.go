package sftp

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"net/url"
	"os/user"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// A session is a connection to a host.
type session struct {
	*sftp.Client
	ssh  *ssh.Client
	line *line
	dead chan struct{} // is closed when the connection is lost

	passed        atomic.Int64 // bytes of files, either way
	reads, writes window
}

// session is one to the host of an address that is alive.
func (c *client) session(ctx context.Context, at *url.URL) (*session, error) {
	name := at.User.Username()
	if name == "" {
		name, _, _ = strings.Cut(c.Login, ":")
	}
	if name == "" {
		if self, err := user.Current(); err == nil {
			name = self.Username[strings.LastIndexByte(self.Username, '\\')+1:]
		}
	}
	key := name + "@" + wire.Origin(at)
	c.mu.Lock()
	if c.slots[key] == nil {
		c.slots[key] = &slot{}
	}
	slot := c.slots[key]
	c.mu.Unlock()
	slot.Lock()
	defer slot.Unlock()
	if s := slot.session; s != nil {
		select {
		case <-s.dead:
		default:
			return s, nil
		}
	}
	if slot.refused != nil {
		return nil, slot.refused
	}
	s, err := c.connect(ctx, at, name)
	switch {
	case err == nil:
		slot.session = s
	case errors.As(err, new(*refusal)):
		slot.refused = err
	}
	return s, err
}

// A slot has the connection to a host, as one user.
type slot struct {
	sync.Mutex
	session *session
	refused error // it does not let us in, and is not asked again: accounts are locked after a few tries
}

// A refusal is that of a host that does not let a user in.
type refusal struct{ user string }

func (r *refusal) Error() string { return "the server does not let " + r.user + " in" }

// connect makes a connection.
func (c *client) connect(ctx context.Context, at *url.URL, user string) (*session, error) {
	port := at.Port()
	if port == "" {
		port = "22"
	}
	address := net.JoinHostPort(at.Hostname(), port)
	started := time.Now()
	conn, err := (&net.Dialer{Timeout: c.Idle}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, unreachable(ctx, err)
	}
	c.Of(at).Measured(time.Since(started), 0, 0)
	l := &line{Conn: conn, idle: c.Idle}
	l.enter()
	defer l.leave()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	go l.watch()
	var asked atomic.Bool
	methods, done := c.keys.methods(c.Login, &asked)
	defer done()
	check := c.keys.check(address)
	over, channels, requests, err := ssh.NewClientConn(l, address, &ssh.ClientConfig{
		User: user, Auth: methods, HostKeyCallback: check.callback, HostKeyAlgorithms: check.algorithms,
	})
	if err != nil {
		l.Close()
		return nil, refused(ctx, err, check, user, asked.Load())
	}
	s := &session{ssh: ssh.NewClient(over, channels, requests), line: l, dead: make(chan struct{})}
	go func() {
		_ = over.Wait() // why it ended, those say who wait for answers
		close(s.dead)
		l.Close()
	}()
	if s.Client, err = sftp.NewClient(s.ssh); err != nil {
		s.ssh.Close()
		if strings.Contains(err.Error(), "subsystem") {
			return nil, fault.New(fault.Unreadable, "the server lets us in, and has no file transfer: %w", err).Advise("ask who runs the server")
		}
		return nil, &wire.Lost{Err: err}
	}
	return s, nil
}

// unreachable says why there is no connection.
func unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if dns, ok := errors.AsType[*net.DNSError](err); ok && dns.IsNotFound {
		return fault.New(fault.Unreadable, "there is no host %s", dns.Name).Advise("check the address, and the network")
	}
	return &wire.Lost{Err: fault.New(fault.Unreadable, "there is no answer: %w", err).Advise("check the address, the network, and that the server runs")}
}

// refused says why two that are connected do not agree. Where the password was asked for, it was that, however the
// server ended it.
func refused(ctx context.Context, err error, check *hostCheck, user string, asked bool) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case check.wrong != nil:
		return check.wrong
	case asked, strings.Contains(err.Error(), "unable to authenticate"), strings.Contains(err.Error(), "disconnect, reason 2"): // too many tries
		return fault.New(fault.Unreadable, "%w", &refusal{user}).Suggest(fault.LogIn)
	}
	if _, is := errors.AsType[*ssh.AlgorithmNegotiationError](err); is {
		return fault.New(fault.Unreadable, "%w", err)
	}
	return &wire.Lost{Err: err}
}

// wait does something that the server answers, as long as the connection lasts.
func (s *session) wait(ctx context.Context, what func() error) error {
	s.line.enter()
	done := make(chan error, 1)
	go func() {
		defer s.line.leave()
		done <- fault.Guard(what)
	}()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case err := <-done:
		return s.lost(err)
	}
}

// lost makes an error that of a lost connection, unless the server said it, or we did.
func (s *session) lost(err error) error {
	switch {
	case err == nil:
		return nil
	case s.line.silent.Load():
		return &wire.Lost{Err: wire.ErrSilent}
	case failed(err), fault.Known(err), errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.Is(err, wire.ErrThere),
		errors.As(err, new(*fs.PathError)), errors.As(err, new(*stopped)), errors.Is(err, context.Canceled):
		return err
	}
	s.ssh.Close()
	return &wire.Lost{Err: err}
}

// A line is a connection that is lost when nothing comes for too long while something is
// waited for.
type line struct {
	net.Conn
	idle    time.Duration
	latest  atomic.Int64 // when a byte came, or the first began to wait
	waiting atomic.Int32
	silent  atomic.Bool
	closed  atomic.Bool
}

func (l *line) enter() {
	if l.waiting.Add(1) == 1 {
		l.latest.Store(time.Now().UnixNano())
	}
}

func (l *line) leave() { l.waiting.Add(-1) }

func (l *line) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	if n > 0 {
		l.latest.Store(time.Now().UnixNano())
	}
	return n, err
}

func (l *line) Close() error {
	l.closed.Store(true)
	return l.Conn.Close()
}

// watch closes a connection that fell silent.
func (l *line) watch() {
	for !l.closed.Load() {
		time.Sleep(l.idle / 8)
		if l.waiting.Load() > 0 && time.Since(time.Unix(0, l.latest.Load())) > l.idle {
			l.silent.Store(true)
			l.Close()
		}
	}
}
