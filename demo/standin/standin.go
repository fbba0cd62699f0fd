// Package standin is a web server for demonstrations and tests: it has the files of
// a folder, counts what goes over the line, and misbehaves as its faults say.
package standin

import (
	"fmt"
	"html"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// A Server has the files of a folder. Zero values make a good one.
type Server struct {
	Folder   string
	NoRanges bool          // each request is answered with the whole
	Index    bool          // a folder is answered with a page of links to what is in it
	NoLength bool          // and does not say how large it is
	NoTimes  bool          // files have no time of modification
	Tag      string        // ETag of all files, with its quotes; empty: none
	Delay    time.Duration // before each answer
	Faults   []Fault       // tried in order, the first that does something counts

	Requests, Bytes atomic.Int64 // answered, and bytes of their bodies
}

// A Fault is what goes wrong with the n-th request, from 1. It returns the writer
// that the answer goes to, or nil if it answered itself.
type Fault func(n int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter

// Start serves on a free port of this machine, until stop is called, and returns the
// address of the folder, which ends in a slash.
func (s *Server) Start() (address string, stop func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	server := &http.Server{Handler: s}
	go server.Serve(listener) //nolint:errcheck // the server ends with stop
	return "http://" + listener.Addr().String() + "/", func() { server.Close() }, nil
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n := s.Requests.Add(1)
	time.Sleep(s.Delay)
	w = &counted{w, &s.Bytes}
	for _, fault := range s.Faults {
		if w = fault(n, w, r); w == nil {
			return
		}
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.Error(w, http.StatusText(http.StatusMethodNotAllowed), http.StatusMethodNotAllowed)
		return
	}
	file, err := os.Open(filepath.Join(s.Folder, filepath.FromSlash(path.Clean("/"+r.URL.Path))))
	var info fs.FileInfo
	if err == nil {
		defer file.Close()
		info, err = file.Stat()
	}
	switch {
	case err == nil && info.IsDir() && s.Index && !strings.HasSuffix(r.URL.Path, "/"):
		http.Redirect(w, r, r.URL.Path+"/", http.StatusMovedPermanently)
		return
	case err == nil && info.IsDir() && s.Index && r.Method == http.MethodGet:
		index(w, file)
		return
	case err != nil || info.IsDir():
		http.NotFound(w, r)
		return
	}
	modified := info.ModTime()
	if s.NoTimes {
		modified = time.Time{}
	}
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	if s.Tag != "" {
		h.Set("ETag", s.Tag)
	}
	if !s.NoRanges {
		http.ServeContent(w, r, "", modified, file)
		return
	}
	if !s.NoTimes {
		h.Set("Last-Modified", modified.UTC().Format(http.TimeFormat))
	}
	if !s.NoLength {
		h.Set("Content-Length", strconv.FormatInt(info.Size(), 10))
	}
	io.Copy(w, file) //nolint:errcheck // who asked is gone
}

// index writes a page with a link to each file and folder in a folder, as web servers do.
func index(w http.ResponseWriter, folder *os.File) {
	children, err := folder.ReadDir(-1)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	page := strings.Builder{}
	page.WriteString("<!DOCTYPE html>\n<html><head><title>Files</title></head><body><h1>Files</h1>\n<a href=\"../\">../</a><br>\n")
	for _, child := range children {
		link := url.URL{Path: child.Name()}
		if child.IsDir() {
			link.Path += "/"
		}
		fmt.Fprintf(&page, "<a href=\"./%s\">%s</a><br>\n", html.EscapeString(link.EscapedPath()), html.EscapeString(link.Path))
	}
	page.WriteString("</body></html>\n")
	io.WriteString(w, page.String()) //nolint:errcheck // who asked is gone
}

// counted counts what is written.
type counted struct {
	http.ResponseWriter
	bytes *atomic.Int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.bytes.Add(int64(n))
	return n, err
}

// ReadFrom lets the system send files by itself.
func (c *counted) ReadFrom(r io.Reader) (int64, error) {
	n, err := io.Copy(c.ResponseWriter, r)
	c.bytes.Add(n)
	return n, err
}

// Unwrap is for http.ResponseController.
func (c *counted) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// Each makes a fault that concerns every nth request.
func Each(nth int64, fault Fault) Fault {
	return func(n int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter {
		if n%nth != 0 {
			return w
		}
		return fault(n, w, r)
	}
}

// First makes a fault that concerns the first requests.
func First(many int64, fault Fault) Fault {
	return func(n int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter {
		if n > many {
			return w
		}
		return fault(n, w, r)
	}
}

// Status answers with a status, and headers by name and value.
func Status(code int, headers ...string) Fault {
	return func(_ int64, w http.ResponseWriter, _ *http.Request) http.ResponseWriter {
		set(w, headers)
		http.Error(w, http.StatusText(code), code)
		return nil
	}
}

// Headers adds headers, by name and value, to what is otherwise right.
func Headers(headers ...string) Fault {
	return func(_ int64, w http.ResponseWriter, _ *http.Request) http.ResponseWriter {
		set(w, headers)
		return w
	}
}

func set(w http.ResponseWriter, headers []string) {
	for i := 0; i+1 < len(headers); i += 2 {
		w.Header().Set(headers[i], headers[i+1])
	}
}

// Page answers with a page for people, as servers do that want a login.
func Page(_ int64, w http.ResponseWriter, _ *http.Request) http.ResponseWriter {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	io.WriteString(w, "<!DOCTYPE html>\n<html><body>Please log in.</body></html>\n") //nolint:errcheck // who asked is gone
	return nil
}

// Redirect sends requests for paths that start with from on to another address.
func Redirect(from, to string) Fault {
	return func(_ int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter {
		rest, concerned := strings.CutPrefix(r.URL.Path, from)
		if !concerned {
			return w
		}
		http.Redirect(w, r, to+rest, http.StatusFound)
		return nil
	}
}

// Guarded answers 401 unless there is this Authorization.
func Guarded(authorization string) Fault {
	return func(n int64, w http.ResponseWriter, r *http.Request) http.ResponseWriter {
		if r.Header.Get("Authorization") == authorization {
			return w
		}
		return Status(http.StatusUnauthorized)(n, w, r)
	}
}

// Cut breaks the connection after so many bytes of an answer.
func Cut(after int) Fault { return cutting(after, func() { panic(http.ErrAbortHandler) }) }

// Stall says nothing more after so many bytes of an answer, for a while.
func Stall(after int, pause time.Duration) Fault {
	return cutting(after, func() {
		time.Sleep(pause)
		panic(http.ErrAbortHandler)
	})
}

func cutting(after int, end func()) Fault {
	return func(_ int64, w http.ResponseWriter, _ *http.Request) http.ResponseWriter {
		return &cut{w, after, end}
	}
}

type cut struct {
	http.ResponseWriter
	left int
	end  func()
}

func (c *cut) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p[:min(len(p), c.left)])
	if c.left -= n; c.left == 0 {
		http.NewResponseController(c.ResponseWriter).Flush() //nolint:errcheck // the connection ends here
		c.end()
	}
	return n, err
}
