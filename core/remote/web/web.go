// Package web reaches what lies at http and https addresses: by ranges where the server has
// them, else from front to back; folders by WebDAV, or by their index pages; and writes by
// WebDAV. Connections that break are taken up again at the byte, what changes in between is an
// error, and credentials go to no one but the host that they are for. What the bytes mean is
// none of its business.
package web

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

const mostRedirects = 10

// A Client is the protocol.
type Client struct {
	*wire.Hosts
	http  *retryablehttp.Client
	netrc logins
}

// New makes a client. A file that cannot be used is of kind fault.Unreadable.
func New(hosts *wire.Hosts) (wire.Protocol, error) {
	c := &Client{Hosts: hosts}
	if c.Netrc != "" {
		text, err := os.ReadFile(c.Netrc)
		if err == nil {
			c.netrc, err = parseNetrc(string(text))
		}
		if err != nil {
			return nil, fault.At(c.Netrc, fault.New(fault.Unreadable, "it cannot be read as a list of users and passwords by host: %w", err))
		}
	}
	trusted, err := trust(c.CAFile)
	if err != nil {
		return nil, err
	}
	c.http = &retryablehttp.Client{
		HTTPClient:   &http.Client{Transport: &credentials{c, c.transport(trusted)}, CheckRedirect: checkRedirect},
		RetryMax:     c.Retries,
		CheckRetry:   c.retryPolicy,
		Backoff:      c.retryBackoff,
		ErrorHandler: retryablehttp.PassthroughErrorHandler,

		RequestLogHook: countTries,
	}
	return c, nil
}

func (c *Client) transport(trusted *x509.CertPool) *http.Transport {
	dialer := net.Dialer{Timeout: c.Idle}
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dialer.DialContext(ctx, network, address)
			return taking{conn, c.Idle}, err
		},
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

// taking is a connection that is lost when the other side takes no byte for a while.
type taking struct {
	net.Conn
	idle time.Duration
}

func (t taking) Write(p []byte) (int, error) {
	if err := t.SetWriteDeadline(time.Now().Add(t.idle)); err != nil {
		return 0, err
	}
	return t.Conn.Write(p)
}
