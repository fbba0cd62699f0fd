package web

import (
	"context"
	"crypto/tls"
	"errors"
	"math/rand/v2"
	"net"
	"net/http"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
)

const (
	defaultPause = 500 * time.Millisecond // before the first retry
	longestPause = 30 * time.Second
	longestAsked = 10 * time.Minute // that a server may ask for
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
		case http.StatusRequestTimeout, http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
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

// retryBackoff is how long to wait before the next try: what the server asks for, or
// twice as long as before, less up to a half by chance.
func (c *Client) retryBackoff(_, _ time.Duration, try int, answer *http.Response) time.Duration {
	pause := retryablehttp.DefaultBackoff(c.Pause, longestPause, try, answer)
	what := "the connection failed"
	if answer != nil {
		what = "the server answered " + answer.Status
	}
	if answer == nil || answer.Header.Get("Retry-After") == "" {
		pause -= time.Duration(rand.Int64N(int64(pause/2) + 1))
	}
	pause = min(pause, longestAsked)
	c.Say(what + "; it is asked again in " + pause.Round(10*time.Millisecond).String())
	return pause
}
