package wire

import (
	"context"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"
)

// Hosts are those of one client.
type Hosts struct {
	Options

	mu    sync.Mutex
	all   map[string]*Host
	named map[string]bool // by addresses: credentials may go there
}

// Name notes that an address names a host, and reports how many are named that are reached
// in the same way.
func (h *Hosts) Name(u *url.URL) (several bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.named == nil {
		h.named = map[string]bool{}
	}
	h.named[Origin(u)] = true
	return len(h.named) > 1
}

// Named reports whether an address names a host, so that credentials may go to it.
func (h *Hosts) Named(u *url.URL) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.named[Origin(u)]
}

// Origin is what credentials are for: scheme, host and port.
func Origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443", "sftp": "22"}[u.Scheme]
	}
	return u.Scheme + "://" + net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// A Host is what is known of one.
type Host struct {
	connections *semaphore.Weighted
	waiting     atomic.Int32 // for a connection

	mu        sync.Mutex
	listeners map[*func()]bool // are called when somebody waits
	latency   time.Duration
	rate      float64 // bytes a second
}

// Of is the host that an address names.
func (h *Hosts) Of(u *url.URL) *Host {
	h.mu.Lock()
	defer h.mu.Unlock()
	key := Origin(u)
	if h.all[key] == nil {
		if h.all == nil {
			h.all = map[string]*Host{}
		}
		h.all[key] = &Host{connections: semaphore.NewWeighted(int64(h.Connections)), listeners: map[*func()]bool{}}
	}
	return h.all[key]
}

// Acquire waits for a connection.
func (h *Host) Acquire(ctx context.Context) error {
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

// Release gives a connection back.
func (h *Host) Release() { h.connections.Release(1) }

// Measured takes note of how long the host took to answer, and of how fast its
// bytes came.
func (h *Host) Measured(latency time.Duration, bytes int64, took time.Duration) {
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

// Gap is up to how many bytes between two ranges it is cheaper to read them as well.
func (h *Host) Gap() int64 {
	if meanwhile := h.Meanwhile(); meanwhile > 0 {
		return min(max(meanwhile, smallestGap), largestGap)
	}
	return usualGap
}

// Meanwhile is how many bytes come in the time of a round trip; 0: it is not known yet.
func (h *Host) Meanwhile() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return int64(h.latency.Seconds() * h.rate)
}

// OnContention has tell called whenever somebody has to wait for a connection to
// the host, until the function that it returns is called.
func (h *Host) OnContention(tell func()) (stop func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.listeners[&tell] = true
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, &tell)
	}
}

// Contended reports whether others wait for a connection to the host.
func (h *Host) Contended() bool { return h.waiting.Load() > 0 }
