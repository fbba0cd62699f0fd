// Package remote reads and writes what lies on other machines: one idea of a place
// elsewhere, whatever the protocol is by which it is reached. What the bytes mean is
// none of its business.
package remote

import (
	"context"
	"errors"
	"net/url"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/fault"
	"widecrate/core/remote/sftp"
	"widecrate/core/remote/web"
	"widecrate/core/remote/wire"
)

// protocols are those that there are, by the scheme of their addresses.
var protocols = map[string]func(*wire.Hosts) (wire.Protocol, error){
	"http":  web.New,
	"https": web.New,
	"sftp":  sftp.New,
}

// Those of wire.
type (
	Options = wire.Options
	Info    = wire.Info
	Range   = wire.Range
	File    = wire.File
)

// Those of wire.
var (
	ErrMissing  = wire.ErrMissing
	ErrUnlisted = wire.ErrUnlisted
	ErrThere    = wire.ErrThere
	ErrStale    = wire.ErrStale
	ErrChanged  = wire.ErrChanged
)

// MakeNew makes the folder; see wire.Protocol.
func (a *Address) MakeNew(ctx context.Context) error { return a.protocol.MakeNew(ctx, a.url) }

// Settled does something with a file that others may replace at any moment, again if they did meanwhile.
func Settled(do func() error) (err error) {
	const tries = 20
	for try := 1; ; try++ {
		if err = do(); !wire.IsChanged(err) || try == tries {
			return err
		}
	}
}

// The usual values.
const (
	DefaultRetries     = wire.DefaultRetries
	DefaultIdle        = wire.DefaultIdle
	DefaultConnections = wire.DefaultConnections
)

// Those of wire.
const (
	Unknown      = wire.Unknown // a size that a server does not say
	HiddenPrefix = wire.HiddenPrefix
)

// A Client reaches addresses. It may be used on several goroutines.
type Client struct {
	hosts *wire.Hosts
	open  atomic.Int32 // resources

	mu      sync.Mutex
	started map[string]wire.Protocol // by scheme
}

// New makes a client.
func New(o Options) *Client {
	o.Complete()
	return &Client{hosts: &wire.Hosts{Options: o}, started: map[string]wire.Protocol{}}
}

// IsAddress reports whether a name is an address.
func IsAddress(name string) bool {
	scheme, _, found := strings.Cut(name, "://")
	return found && protocols[strings.ToLower(scheme)] != nil
}

// protocol is that of a scheme. A file of the options that cannot be used is of kind
// fault.Unreadable.
func (c *Client) protocol(scheme string) (p wire.Protocol, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.started[scheme] == nil {
		if p, err = protocols[scheme](c.hosts); err != nil {
			return nil, err
		}
		c.started[scheme] = p
	}
	return c.started[scheme], nil
}

// An Address is where something lies.
type Address struct {
	client   *Client
	protocol wire.Protocol
	url      *url.URL
	listed   *Info // that a list of its folder had
}

// Address takes an address in; the host that it names is one that credentials may
// go to. One that cannot be used is of kind fault.Usage.
func (c *Client) Address(text string) (*Address, error) {
	u, err := url.Parse(text)
	if err != nil {
		return nil, fault.New(fault.Usage, "the address is malformed: %w", errors.Unwrap(err))
	}
	_, secret := u.User.Password()
	switch {
	case protocols[u.Scheme] == nil:
		return nil, fault.At(text, fault.New(fault.Usage, "it is no address of a kind that is known"))
	case secret, u.User != nil && u.Scheme != "sftp":
		return nil, fault.At(u.Redacted(), fault.New(fault.Usage, "an address with a user or password in it is not taken: command lines are seen by others").
			Suggest(fault.Credentials))
	case u.Hostname() == "":
		return nil, fault.At(text, fault.New(fault.Usage, "the address names no host"))
	}
	u.Fragment = ""
	a := &Address{client: c, url: u}
	several := c.hosts.Name(u)
	if several && (c.hosts.Token != "" || c.hosts.Login != "") {
		what := "a token"
		if c.hosts.Token == "" {
			what = "a user with a password"
		}
		return nil, fault.At(a.String(), fault.New(fault.Usage, "%s is for one host, and the addresses name more than one", what).Suggest(fault.Credentials))
	}
	a.protocol, err = c.protocol(u.Scheme)
	return a, err
}

func (a *Address) String() string { return a.url.String() }

// Connections are how many there are at once to its host, at most.
func (a *Address) Connections() int { return a.client.hosts.Connections }

// Name is the last part of its path, decoded; that of the host where there is
// none.
func (a *Address) Name() string { return wire.NameOf(a.url) }

// IsFolder reports whether it ends in a slash, as that of a folder does.
func (a *Address) IsFolder() bool { return strings.HasSuffix(a.url.Path, "/") }

// AsFolder is the address with a slash at its end.
func (a *Address) AsFolder() *Address {
	if a.IsFolder() {
		return a
	}
	return a.with(a.url.EscapedPath() + "/")
}

// Folder is the one that it lies in.
func (a *Address) Folder() *Address {
	written := strings.TrimSuffix(a.url.EscapedPath(), "/")
	return a.with(written[:strings.LastIndexByte(written, '/')+1])
}

// Sibling is what would lie beside it under another name; of a folder, in it. The name may be
// a path, with slashes.
func (a *Address) Sibling(name string) *Address {
	written := a.url.EscapedPath() // two slashes, or one that is escaped, stay as they are
	names := strings.Split(name, "/")
	for i := range names {
		names[i] = url.PathEscape(names[i])
	}
	return a.with(written[:strings.LastIndexByte(written, '/')+1] + strings.Join(names, "/"))
}

// with is an address on the same host.
func (a *Address) with(written string) *Address {
	u := *a.url
	u.RawPath = written
	u.Path, _ = url.PathUnescape(written) // it is escaped by net/url
	return &Address{client: a.client, protocol: a.protocol, url: &u}
}

// OnSameHost is another address on the same host, by the same protocol and as the same user. Any
// other is of kind fault.Usage.
func (a *Address) OnSameHost(text string) (*Address, error) {
	u, err := url.Parse(text)
	if err != nil || wire.Origin(a.url) != wire.Origin(u) || a.url.User.String() != u.User.String() {
		return nil, fault.At(text, fault.New(fault.Usage, "it is no address on the same host as %s", a.url.Host))
	}
	return a.client.Address(text)
}

// Listed is the address of a file in a folder that was listed.
func (a *Address) Listed(info Info) *Address {
	at := a.Sibling(strings.TrimPrefix(info.Below+"/"+info.Name, "/"))
	if info.Query != "" {
		at.url.RawQuery = info.Query
	}
	at.listed = &info
	return at
}

// Stat says what is known of what lies there, without its data: what a list of its folder
// had, if that was all of it.
func (a *Address) Stat(ctx context.Context) (Info, error) {
	if a.listed != nil && a.listed.Whole {
		return *a.listed, nil
	}
	return a.Now(ctx)
}

// Now is Stat of what lies there now.
func (a *Address) Now(ctx context.Context) (Info, error) { return a.protocol.Stat(ctx, a.url) }

// Modified is when the file was modified; zero where the server does not say it.
func (a *Address) Modified(ctx context.Context) (time.Time, error) {
	if a.listed == nil || a.listed.Modified.IsZero() {
		info, err := a.Stat(ctx)
		if err != nil {
			return time.Time{}, err
		}
		a.listed = &info
	}
	return a.listed.Modified, nil
}

// Said is what is known without asking: its size, Unknown where it is not, and its time.
func (a *Address) Said() (size int64, modified time.Time) {
	if a.listed == nil {
		return Unknown, time.Time{}
	}
	return a.listed.Size, a.listed.Modified
}

// List names what is in a folder, in no order. What is called as nothing is that has a name on
// a disk is left out.
func (a *Address) List(ctx context.Context) ([]Info, error) {
	all, err := a.protocol.List(ctx, a.AsFolder().url)
	if err != nil {
		return nil, err
	}
	kept := all[:0]
	for _, info := range all {
		if wire.LastPart(info.Name) == info.Name && info.Name != "" && !strings.Contains(info.Name, "\x00") && (info.Below == "" || path.Clean("/"+info.Below) == "/"+info.Below) {
			kept = append(kept, info)
		}
	}
	return kept, nil
}

// Create starts a file; see wire.Protocol.
func (a *Address) Create(ctx context.Context) (File, error) { return a.protocol.Create(ctx, a.url) }

// Rename gives the file another name on the same host, in one step; see wire.Protocol.
func (a *Address) Rename(ctx context.Context, to *Address, replace bool, seen *Info) error {
	return a.protocol.Rename(ctx, a.url, to.url, replace, seen)
}

// Remove removes the file, or the folder, which is empty; see wire.Protocol.
func (a *Address) Remove(ctx context.Context, seen *Info) error {
	return a.protocol.Remove(ctx, a.url, seen)
}

// MakeFolder makes the folder, and those above it, where they are missing.
func (a *Address) MakeFolder(ctx context.Context) error { return a.protocol.MakeFolder(ctx, a.url) }

// Client is the one that it is reached by.
func (a *Address) Client() *Client { return a.client }

// Under is the path of an address from a folder at another on, decoded. One that makes a detour, an escaped one,
// too, or lies elsewhere, is not under it.
func Under(folder, address string) (rel string, is bool) {
	in, errIn := url.Parse(folder)
	at, errAt := url.Parse(address)
	if errIn != nil || errAt != nil || in.Scheme != at.Scheme || !strings.EqualFold(in.Host, at.Host) || in.User.String() != at.User.String() {
		return "", false
	}
	escaped := func(u *url.URL) int { return strings.Count(u.Path, "/") - strings.Count(u.EscapedPath(), "/") }
	rel, is = strings.CutPrefix(at.Path, strings.TrimSuffix(in.Path, "/")+"/")
	if !is || rel == "" || path.Clean("/"+rel) != "/"+rel || escaped(in) != escaped(at) {
		return "", false
	}
	return rel, true
}
