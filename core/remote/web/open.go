package web

import (
	"context"
	"crypto/tls"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// A resource is what lies at an address, as it was when it was opened.
type resource struct {
	*wire.Resource
	url    *url.URL
	client *Client
	first  atomic.Pointer[answer] // to the request that opened it, for whoever reads from
	at     int64                  // this place on
	single atomic.Bool            // the server does not answer a request for several ranges
}

// answer is the response to a request, with the connection that it holds.
type answer struct {
	*http.Response
	host   *wire.Host
	held   context.Context // of the request
	cancel context.CancelCauseFunc
	asked  time.Time
}

func (a *answer) close() {
	a.cancel(nil)
	a.Body.Close()
	a.host.Release()
}

// Open is that of wire.Protocol. The answer is kept for the first call of Fetch; Close gives it up.
func (c *Client) Open(ctx context.Context, at *url.URL, head int64) (*wire.Resource, error) {
	r := &resource{url: at, client: c, Resource: &wire.Resource{Info: wire.Info{Name: wire.NameOf(at), Whole: true}, Host: c.Of(at)}}
	r.Source = r
	start := []wire.Range{{From: 0, To: head}}
	switch {
	case head == 0:
		start[0].To = wire.Unknown
	case head < 0:
		start[0] = wire.Range{From: head, To: wire.Unknown}
	}
	for {
		first, err := r.ask(ctx, start, false)
		if err != nil {
			return nil, err
		}
		last := start != nil && start[0].From < 0
		if err = r.describe(first, last); err == nil {
			if r.Ranges && start != nil && head != statted && r.ETag == "" && r.Modified.IsZero() {
				// Nothing would tell that two parts are of two versions: all of it comes in one answer.
				first.close()
				start = nil
				continue
			}
			if last && r.Ranges && r.at != max(0, r.Size+head) { // it is of no use to who reads from there on
				first.close()
			} else {
				r.first.Store(first)
			}
			return r.Resource, nil
		}
		first.close()
		switch {
		case err == errNoEnd:
			start = []wire.Range{{From: 0, To: -head}}
		case err == errNoTotal && start != nil:
			start = nil
		default:
			return nil, err
		}
	}
}

// Close gives up the answer that Open keeps.
func (r *resource) Close() {
	if first := r.first.Swap(nil); first != nil {
		first.close()
	}
}

// statted is how many bytes are asked for where none is needed.
const statted = 1

// Stat is that of wire.Protocol: it asks for one byte, and where that is refused by WebDAV whether it is a folder.
func (c *Client) Stat(ctx context.Context, at *url.URL) (wire.Info, error) {
	r, err := c.Open(ctx, at, statted)
	if err == nil {
		r.Close()
		return r.Info, nil
	}
	if !errors.Is(err, wire.ErrMissing) && ctx.Err() == nil {
		if info, is := c.folder(ctx, at); is {
			return info, nil
		}
	}
	return wire.Info{}, err
}

// folder is what a server that speaks WebDAV says of a folder; false: it is none, or the server does not.
func (c *Client) folder(ctx context.Context, at *url.URL) (wire.Info, bool) {
	in := *at // without its slash, it is redirected
	in.RawPath = strings.TrimSuffix(at.EscapedPath(), "/") + "/"
	in.Path, _ = url.PathUnescape(in.RawPath) // it is escaped by net/url
	a, text, err := c.read(ctx, "PROPFIND", &in, []byte(propfind), func(h http.Header) { h.Set("Depth", "0") })
	if err != nil || a.StatusCode != http.StatusMultiStatus {
		return wire.Info{}, false
	}
	var list multiStatus
	if xml.Unmarshal(text, &list) != nil || len(list.All) != 1 {
		return wire.Info{}, false
	}
	info := wire.Info{Name: wire.NameOf(at), Size: wire.Unknown}
	list.All[0].complete(&info)
	return info, info.Folder
}

// describe takes from the first answer what it says.
func (r *resource) describe(first *answer, last bool) error {
	if now := first.Request.URL; strings.TrimSuffix(now.Path, "/") == r.url.Path && now.Path != r.url.Path {
		return fault.New(fault.Unreadable, "it is a folder").Advise("end the address with a slash")
	}
	if err := refused(first.Response); err != nil {
		return err
	}
	h := first.Header
	if _, values, err := mime.ParseMediaType(h.Get("Content-Disposition")); err == nil {
		if name := wire.LastPart(values["filename"]); name != "" {
			r.Name = name
		}
	}
	if encoding := h.Get("Content-Encoding"); encoding != "identity" {
		r.Encoding = encoding
	}
	if r.Encoding != "" && !saysGzip(r.Name) {
		return wire.PackedOnceMore(r.Encoding)
	}
	r.ETag = h.Get("ETag")
	if t, err := http.ParseTime(h.Get("Last-Modified")); err == nil {
		r.Modified = t
	}
	switch first.StatusCode {
	case http.StatusOK:
		r.Size, r.Ranges = first.ContentLength, false // -1 where it is not known
	case http.StatusRequestedRangeNotSatisfiable: // there is not one byte, unless it says how many
		if _, total, said := strings.Cut(h.Get("Content-Range"), "*/"); last && !said || said && strings.Trim(total, "0") != "" {
			if last {
				return errNoEnd
			}
			return errNoTotal
		}
		r.Size = 0
	default:
		from, to, total, err := parseContentRange(h.Get("Content-Range"))
		if err != nil || from != 0 && (!last || to != total) || to == 0 {
			return fault.New(fault.Unreadable, "the server answered with another range (%s) than the one it was asked for, from byte 0", wire.Printable(h.Get("Content-Range")))
		}
		if r.Size, r.Ranges, r.at = total, true, from; total == wire.Unknown {
			return errNoTotal
		}
	}
	return nil
}

// errNoEnd is that of a server that does not know how to send the last bytes.
var errNoEnd = errors.New("it sends no last bytes")

var errNoTotal = fault.New(fault.Unreadable, "the server does not tell how large it is, and yet sends parts of it")

// saysGzip reports whether a file of that name is expected to be what servers take
// for an encoding.
func saysGzip(name string) bool {
	name = strings.ToLower(name)
	return strings.HasSuffix(name, "gz")
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

// refused is the error that the status of an answer stands for.
func refused(r *http.Response) error {
	switch r.StatusCode {
	case http.StatusOK, http.StatusPartialContent, http.StatusRequestedRangeNotSatisfiable:
		return nil
	}
	e := fault.New(fault.Unreadable, "the server answered %s", wire.Printable(r.Status))
	switch r.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		return e.Suggest(fault.Credentials)
	case http.StatusNotFound, http.StatusGone:
		return fault.New(fault.Unreadable, "the server answered %s: %w", wire.Printable(r.Status), wire.ErrMissing).Advise("check the address")
	}
	return e.Advise("try again later, or ask who runs the server")
}

// ask makes a request for ranges, or for all of it, and waits for the start of the answer.
// If it goes on from an earlier one, it is to say whether the bytes are still the
// same.
func (r *resource) ask(ctx context.Context, ranges []wire.Range, again bool) (*answer, error) {
	return r.client.ask(ctx, http.MethodGet, r.url, nil, func(h http.Header) {
		if text := rangeHeader(ranges); text != "" {
			h.Set("Range", text)
		}
		if v := r.validator(); again && v != "" {
			h.Set("If-Range", v)
		}
	})
}

// ask makes a request and waits for the start of the answer.
func (c *Client) ask(ctx context.Context, method string, at *url.URL, body any, headers func(http.Header)) (*answer, error) {
	host := c.Of(at)
	if err := host.Acquire(ctx); err != nil {
		return nil, err
	}
	held, cancel := context.WithCancelCause(ctx)
	a := &answer{host: host, held: held, cancel: cancel, asked: time.Now()}
	request, err := retryablehttp.NewRequestWithContext(held, method, at.String(), body)
	if err == nil {
		request.Header.Set("Accept-Encoding", "identity")
		request.Header.Set("User-Agent", "widecrate")
		if headers != nil {
			headers(request.Header)
		}
		a.Response, err = c.http.Do(request)
	}
	if err != nil {
		cancel(nil)
		host.Release()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, unreachable(err)
	}
	host.Measured(time.Since(a.asked), 0, 0)
	return a, nil
}

// validator is what If-Range is asked with (RFC 9110, section 13.1.5): the ETag if
// it is a strong one, else the time.
func (r *resource) validator() string {
	switch {
	case r.ETag != "" && !strings.HasPrefix(r.ETag, "W/"):
		return r.ETag
	case r.ETag == "" && !r.Modified.IsZero():
		return r.Modified.UTC().Format(http.TimeFormat)
	}
	return ""
}

// changed says that an answer is about something else than the first one.
func (r *resource) changed(h http.Header, total int64) error {
	now := h.Get("ETag")
	modified, err := http.ParseTime(h.Get("Last-Modified"))
	if r.ETag != "" && now != "" && strings.TrimPrefix(now, "W/") != strings.TrimPrefix(r.ETag, "W/") ||
		err == nil && !r.Modified.IsZero() && !modified.Equal(r.Modified) ||
		total != wire.Unknown && r.Size != wire.Unknown && total != r.Size {
		return wire.ErrChanged
	}
	return nil
}

// rangeHeader is the Range header of a request (RFC 9110, section 14.2).
func rangeHeader(ranges []wire.Range) string {
	texts := make([]string, len(ranges))
	for i, r := range ranges {
		if r.From < 0 { // the last bytes
			texts[i] = strconv.FormatInt(r.From, 10)
			continue
		}
		if texts[i] = fmt.Sprintf("%d-", r.From); r.To != wire.Unknown {
			texts[i] += strconv.FormatInt(r.To-1, 10)
		}
	}
	if len(texts) == 0 {
		return ""
	}
	return "bytes=" + strings.Join(texts, ",")
}

// parseContentRange reads a Content-Range header (RFC 9110, section 14.4). The end
// is that of a Range, the total may be wire.Unknown.
func parseContentRange(text string) (from, to, total int64, err error) {
	rest, found := strings.CutPrefix(text, "bytes ")
	span, size, both := strings.Cut(rest, "/")
	first, last, dash := strings.Cut(span, "-")
	if !found || !both || !dash {
		return 0, 0, 0, fmt.Errorf("it is no range of bytes")
	}
	total = wire.Unknown
	if size != "*" {
		total, err = strconv.ParseInt(size, 10, 64)
	}
	var errs [2]error
	from, errs[0] = strconv.ParseInt(first, 10, 64)
	to, errs[1] = strconv.ParseInt(last, 10, 64)
	if err = errors.Join(err, errs[0], errs[1]); err == nil && (from < 0 || to < from || total != wire.Unknown && to >= total) {
		err = fmt.Errorf("it is no range of bytes")
	}
	return from, to + 1, total, err
}

// idle is a body that is lost when no byte comes for a while.
type idle struct {
	io.Reader
	answer *answer
	after  time.Duration
	timer  *time.Timer
}

func (i *idle) Read(p []byte) (int, error) {
	if i.timer == nil {
		i.timer = time.AfterFunc(i.after, func() { i.answer.cancel(wire.ErrSilent) })
	} else {
		i.timer.Reset(i.after)
	}
	n, err := i.Reader.Read(p)
	if !i.timer.Stop() && err != nil && context.Cause(i.answer.held) == wire.ErrSilent {
		err = wire.ErrSilent
	}
	return n, err
}
