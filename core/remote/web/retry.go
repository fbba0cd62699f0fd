package web

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// retryPolicy reports whether a request is made again: after answers that say that it may go
// well another time, and after connections that failed. Certificates, addresses that make no
// sense, hosts that there are not, and refusals of our own stay what they are.
func (c *Client) retryPolicy(ctx context.Context, answer *http.Response, err error) (bool, error) {
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if err == nil {
		switch answer.StatusCode {
		case http.StatusRequestTimeout, http.StatusLocked, http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
			http.StatusServiceUnavailable, http.StatusGatewayTimeout:
			return true, nil
		}
		return false, nil
	}
	if fault.Of(err) != fault.Other {
		return false, nil
	}
	if dns, ok := errors.AsType[*net.DNSError](err); ok && dns.IsNotFound {
		return false, nil
	}
	if _, ok := errors.AsType[tls.RecordHeaderError](err); ok {
		return false, nil
	}
	again, _ := retryablehttp.ErrorPropagatedRetryPolicy(ctx, nil, err) // certificates, malformed addresses
	return again, nil
}

// retryBackoff is how long to wait before the next try.
func (c *Client) retryBackoff(_, _ time.Duration, try int, answer *http.Response) time.Duration {
	if answer == nil {
		return c.Pausing(try, wire.NotAsked, "the connection failed")
	}
	asked := wire.NotAsked
	if answer.Header.Get("Retry-After") != "" {
		asked = retryablehttp.DefaultBackoff(c.Pause, time.Hour, try, answer)
	}
	return c.Pausing(try, asked, "the server answered "+answer.Status)
}
