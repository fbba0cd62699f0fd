// Package web reads what lies at http and https addresses: by ranges where the
// server has them, else from front to back. Connections that break are taken up
// again at the byte, what changes in between is an error, and credentials go to no
// one but the host that they are for. What the bytes mean is none of its business.
package web

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/hashicorp/go-retryablehttp"
	"github.com/jdx/go-netrc"
	"golang.org/x/sync/semaphore"

	"widecrate/core/fault"
)

// Options say how addresses are read. Zero values are the usual ones.
type Options struct {
	CAFile      string        // certificates to trust beside those of the system
	Token       string        // a bearer token, for the one host that addresses name
	Netrc       string        // file with users and passwords by host; empty: there is none
	Retries     int           // in a row without a byte in between; 0: 5, below: none
	Idle        time.Duration // no byte for so long is a lost connection; 0: 30 seconds
	Connections int           // at once, for each host; 0: 4
	Pause       time.Duration // before the first retry, doubled with each; 0: half a second
	Say         func(string)  // is called with what goes wrong and is tried again; may be nil
}

// The usual values.
const (
	DefaultRetries     = 5
	DefaultIdle        = 30 * time.Second
	DefaultConnections = 4
)

const mostRedirects = 10

// A Client reads addresses. It may be used on several goroutines.
type Client struct {
	Options
	http  *retryablehttp.Client
	netrc *netrc.Netrc

	open    atomic.Int32 // resources
	mu      sync.Mutex
	hosts   map[string]*host
	origins map[string]bool // that addresses name, and credentials may go to
}

// New makes a client. A file that cannot be used is of kind fault.Unreadable.
func New(o Options) (*Client, error) {
	c := &Client{Options: o, hosts: map[string]*host{}, origins: map[string]bool{}}
	if c.Retries == 0 {
		c.Retries = DefaultRetries
	}
	if c.Idle <= 0 {
		c.Idle = DefaultIdle
	}
	if c.Connections < 1 {
		c.Connections = DefaultConnections
	}
	if c.Pause <= 0 {
		c.Pause = defaultPause
	}
	if c.Say == nil {
		c.Say = func(string) {}
	}
	if o.Netrc != "" {
		text, err := os.ReadFile(o.Netrc)
		if err == nil {
			c.netrc, err = netrc.ParseString(string(text))
		}
		if err != nil {
			return nil, fault.At(o.Netrc, fault.New(fault.Unreadable, "it cannot be read as a list of users and passwords by host: %w", err))
		}
	}
	trusted, err := trust(o.CAFile)
	if err != nil {
		return nil, err
	}
	c.http = &retryablehttp.Client{
		HTTPClient:   &http.Client{Transport: &credentials{c, c.transport(trusted)}, CheckRedirect: checkRedirect},
		RetryMax:     max(c.Retries, 0),
		CheckRetry:   c.retryPolicy,
		Backoff:      c.retryBackoff,
		ErrorHandler: retryablehttp.PassthroughErrorHandler,
	}
	return c, nil
}

func (c *Client) transport(trusted *x509.CertPool) *http.Transport {
	dialer := net.Dialer{Timeout: c.Idle}
	return &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           dialer.DialContext,
		TLSClientConfig:       &tls.Config{RootCAs: trusted},
		TLSHandshakeTimeout:   c.Idle,
		ResponseHeaderTimeout: c.Idle,
		IdleConnTimeout:       90 * time.Second,
		MaxIdleConnsPerHost:   c.Connections,
		ForceAttemptHTTP2:     true,
		DisableCompression:    true, // the bytes as they lie there
		ReadBufferSize:        64 << 10,
	}
}

// IsAddress reports whether the name of a source is an address.
func IsAddress(name string) bool {
	scheme, _, found := strings.Cut(name, "://")
	return found && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https"))
}

// An Address is where something lies.
type Address struct {
	client *Client
	url    *url.URL
}

// Address takes an address in; the host that it names is one that credentials may
// go to. One that cannot be used is of kind fault.Usage.
func (c *Client) Address(text string) (*Address, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return nil, fault.New(fault.Usage, "the address is malformed: %w", errors.Unwrap(err))
	case u.User != nil:
		return nil, fault.At(u.Redacted(), fault.New(fault.Usage, "an address with a user or password in it is not taken: command lines are seen by others").
			Suggest(fault.Credentials))
	case u.Hostname() == "":
		return nil, fault.At(text, fault.New(fault.Usage, "the address names no host"))
	}
	u.Fragment = ""
	a := &Address{c, u}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.origins[origin(u)] = true
	if c.Token != "" && len(c.origins) > 1 {
		return nil, fault.At(a.String(), fault.New(fault.Usage, "a token is for one host, and the addresses name more than one").Suggest(fault.Credentials))
	}
	return a, nil
}

func (a *Address) String() string { return a.url.String() }

// Connections are how many there are at once to its host, at most.
func (a *Address) Connections() int { return a.client.Options.Connections }

// Name is the last part of its path, decoded; that of the host where there is
// none.
func (a *Address) Name() string {
	if name := lastPart(a.url.Path); name != "" {
		return name
	}
	return a.url.Hostname()
}

// IsFolder reports whether it ends in a slash, as that of a folder does.
func (a *Address) IsFolder() bool { return strings.HasSuffix(a.url.Path, "/") }

// Sibling is what would lie beside it under another name; of a folder, in it.
func (a *Address) Sibling(name string) *Address {
	u := *a.url
	written := a.url.EscapedPath() // two slashes, or one that is escaped, stay as they are
	u.RawPath = written[:strings.LastIndexByte(written, '/')+1] + url.PathEscape(name)
	u.Path, _ = url.PathUnescape(u.RawPath) // both are escaped by net/url
	return &Address{a.client, &u}
}

// lastPart is what follows the last slash or backslash of a name; empty where that
// names no file.
func lastPart(name string) string {
	name = name[strings.LastIndexAny(name, `/\`)+1:]
	if name == "." || name == ".." {
		return ""
	}
	return name
}

// origin is what credentials are for: scheme, host and port.
func origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return u.Scheme + "://" + net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// host is what is known of a host.
type host struct {
	connections *semaphore.Weighted
	waiting     atomic.Int32 // for a connection

	mu        sync.Mutex
	listeners map[*func()]bool // are called when somebody waits
	latency   time.Duration
	rate      float64 // bytes a second
}

func (c *Client) host(u *url.URL) *host {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := origin(u)
	if c.hosts[key] == nil {
		c.hosts[key] = &host{connections: semaphore.NewWeighted(int64(c.Connections)), listeners: map[*func()]bool{}}
	}
	return c.hosts[key]
}

// acquire waits for a connection.
func (h *host) acquire(ctx context.Context) error {
	if h.connections.TryAcquire(1) {
		return nil
	}
	h.waiting.Add(1)
	defer h.waiting.Add(-1)
	h.mu.Lock()
	listeners := slices.Collect(maps.Keys(h.listeners))
	h.mu.Unlock()
	for _, tell := range listeners {
		(*tell)()
	}
	return h.connections.Acquire(ctx, 1)
}

func (h *host) release() { h.connections.Release(1) }

// measured takes note of how long the host took to answer, and of how fast its
// bytes came.
func (h *host) measured(latency time.Duration, bytes int64, took time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if latency > 0 {
		h.latency = latency
	}
	if bytes >= 64<<10 && took > 0 {
		h.rate = float64(bytes) / took.Seconds()
	}
}

// Bounds of a gap between two ranges that is read as well rather than asked
// around.
const (
	smallestGap = 8 << 10
	usualGap    = 64 << 10
	largestGap  = 1 << 20
)

// gap is how many bytes come in the time of a round trip.
func (h *host) gap() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.latency == 0 || h.rate == 0 {
		return usualGap
	}
	return int64(min(max(h.latency.Seconds()*h.rate, smallestGap), largestGap))
}
