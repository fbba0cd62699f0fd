// Package dav is a WebDAV server for tests: it has the files of a folder, lets everybody write at the same moment, keeps
// the conditions of RFC 9110, and gives some requests no answer.
package dav

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"time"

	"golang.org/x/net/webdav"
)

// A Server has the files of a folder.
type Server struct {
	Folder string

	// Lost reports whether a request gets no answer, before and after it was done; nil: all get one.
	Lost func(r *http.Request, done bool) bool
}

// lockless is a system of locks that lets everybody in.
type lockless struct{ webdav.LockSystem }

func (lockless) Confirm(time.Time, string, string, ...webdav.Condition) (func(), error) {
	return func() {}, nil
}
func (lockless) Create(time.Time, webdav.LockDetails) (string, error) { return "", nil }
func (lockless) Unlock(time.Time, string) error                       { return nil }

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	handler := &webdav.Handler{FileSystem: webdav.Dir(s.Folder), LockSystem: lockless{}}
	info, err := os.Stat(filepath.Join(s.Folder, filepath.FromSlash(path.Clean("/"+r.URL.Path))))
	tag := ""
	if err == nil {
		tag = fmt.Sprintf(`"%x%x"`, info.ModTime().UnixNano(), info.Size()) // as that handler makes it
	}
	if match := r.Header.Get("If-Match"); err == nil && r.Header.Get("If-None-Match") == "*" || match != "" && match != tag {
		w.WriteHeader(http.StatusPreconditionFailed)
		return
	}
	if s.Lost != nil && s.Lost(r, false) {
		panic(http.ErrAbortHandler)
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		handler.ServeHTTP(w, r)
		return
	}
	answer := httptest.NewRecorder()
	handler.ServeHTTP(answer, r)
	if s.Lost != nil && s.Lost(r, true) {
		panic(http.ErrAbortHandler)
	}
	for name, values := range answer.Header() {
		w.Header()[name] = values
	}
	w.WriteHeader(answer.Code)
	w.Write(answer.Body.Bytes()) //nolint:errcheck // who asked is gone
}
