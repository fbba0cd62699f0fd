package web

import (
	"crypto/x509"
	"net/http"
	"os"
	"strings"

	"widecrate/core/fault"
)

// credentials adds them to each request by itself, those that follow redirects
// included: they never go where they do not belong.
type credentials struct {
	client *Client
	next   http.RoundTripper
}

func (c *credentials) RoundTrip(r *http.Request) (*http.Response, error) {
	if !c.client.Named(r.URL) {
		return c.next.RoundTrip(r)
	}
	if c.client.Token != "" {
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+c.client.Token)
	} else if user, password, is := strings.Cut(c.client.Login, ":"); is {
		r = r.Clone(r.Context())
		r.SetBasicAuth(user, password)
	} else if as, known := c.client.netrc.of(r.URL.Hostname()); known {
		r = r.Clone(r.Context())
		r.SetBasicAuth(as.user, as.password)
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

// trust returns the certificates of the system and those of a file; nil: just
// those of the system.
func trust(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.Reading(file, err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fault.At(file, fault.New(fault.Unreadable, "there is no certificate in it").Advise("it needs certificates in PEM form: -----BEGIN CERTIFICATE-----"))
	}
	return pool, nil
}
