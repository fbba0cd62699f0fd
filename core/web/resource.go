package web

import (
	"context"
	"crypto/tls"
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
)

// Unknown stands for a size that the server does not say.
const Unknown int64 = -1

// A Resource is what lies at an address, as it was when it was opened.
type Resource struct {
	Address  *Address
	Name     string    // that the server gives, else the last part of the address
	Size     int64     // bytes, or Unknown
	Ranges   bool      // any part of it can be asked for
	ETag     string    // empty: there is none
	Encoding string    // that the server says it added; empty: none
	Modified time.Time // zero: it is not known

	client *Client
	host   *host
	first  atomic.Pointer[answer] // to the request that opened it, for whoever reads from the start
	single atomic.Bool            // the server does not answer a request for several ranges
}

// A Range is the bytes from From up to To, where that is Unknown to the end.
type Range struct{ From, To int64 }

// answer is the response to a request, with the connection that it holds.
type answer struct {
	*http.Response
	host   *host
	held   context.Context // of the request
	cancel context.CancelCauseFunc
	asked  time.Time
}

func (a *answer) close() {
	a.cancel(nil)
	a.Body.Close()
	a.host.release()
}

// Open asks for the first bytes of what lies at an address, or with head 0 for all
// of it, and finds out from the answer what there is to know. Where that fails the
// error is of kind fault.Unreadable. The answer is kept for the first call of
// Fetch; Close gives it up.
func (a *Address) Open(ctx context.Context, head int64) (*Resource, error) {
	r := &Resource{Address: a, Name: a.Name(), client: a.client, host: a.client.host(a.url)}
	start := []Range{{0, head}}
	if head <= 0 {
		start[0].To = Unknown
	}
	for {
		first, err := r.ask(ctx, start, false)
		if err != nil {
			return nil, err
		}
		if err = r.describe(first); err == nil {
			r.first.Store(first)
			a.client.open.Add(1)
			return r, nil
		}
		first.close()
		if err != errNoTotal || start == nil {
			return nil, err
		}
		start = nil
	}
}

// Close gives up the answer that Open keeps.
func (r *Resource) Close() {
	r.client.open.Add(-1)
	if first := r.first.Swap(nil); first != nil {
		first.close()
	}
}

// Gap is the number of bytes between two ranges up to which it is cheaper to read
// them as well.
func (r *Resource) Gap() int64 { return r.host.gap() }

// Reader reads all of it, until ctx is cancelled; see Fetch. Closing it closes the
// resource.
func (r *Resource) Reader(ctx context.Context) io.ReadCloser {
	ctx, cancel := context.WithCancel(ctx)
	from, to := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		to.CloseWithError(fault.Guard(func() error {
			return r.Fetch(ctx, []Range{{0, Unknown}}, func(_ int64, p []byte) error {
				_, err := to.Write(p)
				return err
			})
		}))
	}()
	return &reader{from, func() {
		cancel()
		from.Close()
		<-done
		r.Close()
	}}
}

type reader struct {
	io.Reader
	stop func()
}

func (r *reader) Close() error {
	r.stop()
	return nil
}

// memory is what all resources together may hold ahead of their readers.
const memory = 16 << 20

// Share is how many bytes one of those that are open may hold ahead of its reader.
func (r *Resource) Share() int64 {
	return max(memory/int64(max(r.client.open.Load(), 1)), 1<<20)
}

// OnContention has tell called whenever somebody has to wait for a connection to
// the host, until the function that it returns is called.
func (r *Resource) OnContention(tell func()) (stop func()) {
	h := r.host
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
func (r *Resource) Contended() bool { return r.host.waiting.Load() > 0 }

// describe takes from the first answer what it says.
func (r *Resource) describe(first *answer) error {
	if err := refused(first.Response); err != nil {
		return err
	}
	h := first.Header
	if _, values, err := mime.ParseMediaType(h.Get("Content-Disposition")); err == nil {
		if name := lastPart(values["filename"]); name != "" {
			r.Name = name
		}
	}
	if encoding := h.Get("Content-Encoding"); encoding != "identity" {
		r.Encoding = encoding
	}
	if r.Encoding != "" && !saysGzip(r.Name) {
		return r.PackedOnceMore()
	}
	r.ETag = h.Get("ETag")
	if t, err := http.ParseTime(h.Get("Last-Modified")); err == nil {
		r.Modified = t
	}
	switch first.StatusCode {
	case http.StatusOK:
		r.Size, r.Ranges = first.ContentLength, false // -1 where it is not known
	case http.StatusRequestedRangeNotSatisfiable: // there is not one byte, unless it says how many
		if _, total, said := strings.Cut(h.Get("Content-Range"), "*/"); said && strings.Trim(total, "0") != "" {
			return errNoTotal
		}
		r.Size = 0
	default:
		from, to, total, err := parseContentRange(h.Get("Content-Range"))
		if err != nil || from != 0 || to == 0 {
			return fault.New(fault.Unreadable, "the server answered with another range (%s) than the one it was asked for, from byte 0", printable(h.Get("Content-Range")))
		}
		if r.Size, r.Ranges = total, true; total == Unknown {
			return errNoTotal
		}
	}
	return nil
}

var errNoTotal = fault.New(fault.Unreadable, "the server does not tell how large it is, and yet sends parts of it")

// PackedOnceMore is the error of a server that packs what it sends.
func (r *Resource) PackedOnceMore() error {
	return fault.New(fault.Unreadable, "the server sends it packed once more (Content-Encoding: %s), which was not asked for", printable(r.Encoding)).
		Advise("have the server send it as it is")
}

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
	e := fault.New(fault.Unreadable, "the server answered %s", printable(r.Status))
	switch r.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		return e.Suggest(fault.Credentials)
	case http.StatusNotFound, http.StatusGone:
		return fault.New(fault.Unreadable, "the server answered %s: %w", printable(r.Status), ErrMissing).Advise("check the address")
	}
	return e.Advise("try again later, or ask who runs the server")
}

// ErrMissing is in the error of an address at which there is nothing.
var ErrMissing = errors.New("there is nothing at that address")

// printable is text of a server for people, shortened.
func printable(text string) string {
	const most = 80
	text = strconv.Quote(text)
	if text = text[1 : len(text)-1]; len(text) > most {
		text = text[:most] + "…"
	}
	return text
}

// ask makes a request for ranges, or for all of it, and waits for the start of the answer.
// If it goes on from an earlier one, it is to say whether the bytes are still the
// same.
func (r *Resource) ask(ctx context.Context, ranges []Range, again bool) (*answer, error) {
	if err := r.host.acquire(ctx); err != nil {
		return nil, err
	}
	held, cancel := context.WithCancelCause(ctx)
	a := &answer{host: r.host, held: held, cancel: cancel, asked: time.Now()}
	request, err := retryablehttp.NewRequestWithContext(held, http.MethodGet, r.Address.String(), nil)
	if err == nil {
		request.Header.Set("Accept-Encoding", "identity")
		request.Header.Set("User-Agent", "widecrate")
		if text := rangeHeader(ranges); text != "" {
			request.Header.Set("Range", text)
		}
		if v := r.validator(); again && v != "" {
			request.Header.Set("If-Range", v)
		}
		a.Response, err = r.client.http.Do(request)
	}
	if err != nil {
		cancel(nil)
		r.host.release()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, unreachable(err)
	}
	r.host.measured(time.Since(a.asked), 0, 0)
	return a, nil
}

// validator is what If-Range is asked with (RFC 9110, section 13.1.5): the ETag if
// it is a strong one, else the time.
func (r *Resource) validator() string {
	switch {
	case r.ETag != "" && !strings.HasPrefix(r.ETag, "W/"):
		return r.ETag
	case r.ETag == "" && !r.Modified.IsZero():
		return r.Modified.UTC().Format(http.TimeFormat)
	}
	return ""
}

// changed says that an answer is about something else than the first one.
func (r *Resource) changed(h http.Header, total int64) error {
	now := h.Get("ETag")
	modified, err := http.ParseTime(h.Get("Last-Modified"))
	if r.ETag != "" && now != "" && strings.TrimPrefix(now, "W/") != strings.TrimPrefix(r.ETag, "W/") ||
		err == nil && !r.Modified.IsZero() && !modified.Equal(r.Modified) ||
		total != Unknown && r.Size != Unknown && total != r.Size {
		return errChanged
	}
	return nil
}

var errChanged = fault.New(fault.Unreadable, "it changed while it was read").Advise("run it again when nothing writes to it any more")

// rangeHeader is the Range header of a request (RFC 9110, section 14.2).
func rangeHeader(ranges []Range) string {
	texts := make([]string, len(ranges))
	for i, r := range ranges {
		if texts[i] = fmt.Sprintf("%d-", r.From); r.To != Unknown {
			texts[i] += strconv.FormatInt(r.To-1, 10)
		}
	}
	if len(texts) == 0 {
		return ""
	}
	return "bytes=" + strings.Join(texts, ",")
}

// parseContentRange reads a Content-Range header (RFC 9110, section 14.4). The end
// is that of a Range, the total may be Unknown.
func parseContentRange(text string) (from, to, total int64, err error) {
	rest, found := strings.CutPrefix(text, "bytes ")
	span, size, both := strings.Cut(rest, "/")
	first, last, dash := strings.Cut(span, "-")
	if !found || !both || !dash {
		return 0, 0, 0, fmt.Errorf("it is no range of bytes")
	}
	total = Unknown
	if size != "*" {
		total, err = strconv.ParseInt(size, 10, 64)
	}
	var errs [2]error
	from, errs[0] = strconv.ParseInt(first, 10, 64)
	to, errs[1] = strconv.ParseInt(last, 10, 64)
	if err = errors.Join(err, errs[0], errs[1]); err == nil && (from < 0 || to < from || total != Unknown && to >= total) {
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

var errSilent = errors.New("no byte came for too long")

func (i *idle) Read(p []byte) (int, error) {
	if i.timer == nil {
		i.timer = time.AfterFunc(i.after, func() { i.answer.cancel(errSilent) })
	} else {
		i.timer.Reset(i.after)
	}
	n, err := i.Reader.Read(p)
	if !i.timer.Stop() && err != nil && context.Cause(i.answer.held) == errSilent {
		err = errSilent
	}
	return n, err
}
