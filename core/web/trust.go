package web

import (
	"context"
	"crypto/tls"
	"errors"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
)

// credentials adds them to each request by itself, those that follow redirects
// included: they never go where they do not belong.
type credentials struct {
	client *Client
	next   http.RoundTripper
}

func (c *credentials) RoundTrip(r *http.Request) (*http.Response, error) {
	c.client.mu.Lock()
	known := c.client.origins[origin(r.URL)]
	c.client.mu.Unlock()
	if !known {
		return c.next.RoundTrip(r)
	}
	if c.client.Token != "" {
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+c.client.Token)
	} else if c.client.netrc != nil {
		if m := c.client.netrc.Machine(r.URL.Hostname()); m != nil {
			r = r.Clone(r.Context())
			r.SetBasicAuth(m.Get("login"), m.Get("password"))
		}
	}
	return c.next.RoundTrip(r)
}

// checkRedirect follows a redirect, or refuses to.
func checkRedirect(r *http.Request, via []*http.Request) error {
	switch last := via[len(via)-1].URL; {
	case len(via) > mostRedirects:
		return fault.New(fault.Unreadable, "it was redirected more than %d times", mostRedirects)
	case r.URL.Scheme != "http" && r.URL.Scheme != "https":
		return fault.New(fault.Unreadable, "it was redirected to an address of another kind, %s:", r.URL.Scheme)
	case last.Scheme == "https" && r.URL.Scheme != "https":
		return fault.New(fault.Unreadable, "it was redirected from https to http, to %s, where anybody may change it on the way", r.URL.Host).
			Advise("if that is right, name that address itself")
	}
	r.URL.User = nil
	r.Header.Del("Referer")
	return nil
}

// checkRetry reports whether a request is made again.
func (c *Client) checkRetry(ctx context.Context, answer *http.Response, err error) (bool, error) {
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

// backoff is how long to wait before the next try: what the server asks for, or
// twice as long as before, less up to a half by chance.
func (c *Client) backoff(_, _ time.Duration, try int, answer *http.Response) time.Duration {
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

// unreachable says why there is no answer.
func unreachable(err error) error {
	if e, ok := errors.AsType[*fault.Error](err); ok {
		return e
	}
	if wrapped, ok := errors.AsType[*url.Error](err); ok {
		err = wrapped.Err // its address is reported elsewhere
	}
	failed := fault.New(fault.Unreadable, "there is no answer: %w", err)
	if dns, ok := errors.AsType[*net.DNSError](err); ok && dns.IsNotFound {
		return fault.New(fault.Unreadable, "there is no host %s", dns.Name).Advise("check the address, and the network")
	}
	if _, ok := errors.AsType[*tls.CertificateVerificationError](err); ok {
		return fault.New(fault.Unreadable, "its certificate is not trusted: %w", errors.Unwrap(err)).Suggest(fault.TrustCertificate)
	}
	return failed.Advise("check the address, the network, and that the server runs")
}
