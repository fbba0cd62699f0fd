package web

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// asWritten is what a server says of a folder, and how: the type of the content, and the content.
type asWritten struct {
	status     int
	kind, text string
}

func list(t *testing.T, says asWritten) ([]wire.Info, error) {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if (r.Method == "PROPFIND") != (says.status == http.StatusMultiStatus) {
			http.Error(w, "no", http.StatusMethodNotAllowed)
			return
		}
		w.Header().Set("Content-Type", says.kind)
		w.WriteHeader(says.status)
		_, _ = w.Write([]byte(strings.ReplaceAll(says.text, "HOST", "http://"+r.Host)))
	}))
	t.Cleanup(server.Close)
	hosts := &wire.Hosts{Options: wire.Options{Retries: -1}}
	hosts.Complete()
	client, err := New(hosts)
	require.NoError(t, err)
	folder, err := url.Parse(server.URL + "/in/a%20b/")
	require.NoError(t, err)
	return client.List(context.Background(), folder)
}

// Of what a server says is in a folder, what lies below it is taken, each once, and nothing else.
func TestList(t *testing.T) {
	dav := func(responses string) asWritten {
		return asWritten{http.StatusMultiStatus, "application/xml", `<?xml version="1.0"?><d:multistatus xmlns:d="DAV:">` + responses + `</d:multistatus>`}
	}
	page := func(links ...string) asWritten {
		return asWritten{http.StatusOK, "text/html; charset=utf-8", `<html><body><a href="` + strings.Join(links, `">x</a><a href="`) + `">x</a></body></html>`}
	}
	for name, c := range map[string]struct {
		says asWritten
		want string // names, folders with a slash; or what is wrong
	}{
		"a page":             {page("../", "a.zip", "./b%20c.zip", "sub/", "HOST/in/a%20b/d.zip", "a.zip"), "a.zip b c.zip d.zip sub/"},
		"nothing below":      {page("../"), ""},
		"only other orders":  {page("?C=N;O=D", "/"), ""},
		"names of all kinds": {page("gr%C3%B6%C3%9Fe.zip", "100%25.zip", "x&amp;y%231.zip", "A%2Fb.zip", "..%2F..%2Fe.zip", "%2e%2e/f.zip", "c%5Cd.zip"), "100%.zip größe.zip x&y#1.zip"},
		"up, and elsewhere":  {page("../other.zip", "/in/up.zip", "http://elsewhere.example/in/a%20b/x.zip", "mailto:a@b", "//elsewhere.example/y.zip", "javascript:z", "/in/a%20bc/w.zip", "v.zip"), "v.zip"},
		"further down":       {page("2026/may/a.zip", "b.zip"), "2026/may/a.zip b.zip"},
		"with a question":    {page("a.zip?version=1", "b.zip#top", "sub/?all"), "a.zip?version=1 b.zip"},
		"no index":           {asWritten{http.StatusOK, "text/html", `<html><body>Please <a href="/login">log in</a>.</body></html>`}, "there is no index"},
		"a program":          {asWritten{http.StatusOK, "application/octet-stream", "MZ"}, "there is no index"},
		"forbidden":          {asWritten{http.StatusForbidden, "text/html", ""}, "does not list it"},
		"locked":             {asWritten{http.StatusUnauthorized, "text/html", ""}, "401 Unauthorized"},
		"JSON":               {asWritten{http.StatusOK, "application/json", `[{"name":"a b.zip","type":"file","mtime":"Fri, 01 May 2026 10:00:00 GMT","size":7},{"name":"sub","type":"directory"}]`}, "a b.zip sub/"},
		"JSON of something":  {asWritten{http.StatusOK, "application/json", `{"error":"no"}`}, "there is no index"},
		"XML":                {asWritten{http.StatusOK, "text/xml", `<?xml version="1.0"?><list><directory mtime="2026-05-01T10:00:00Z">sub</directory><file mtime="2026-05-01T10:00:00Z" size="7">a &amp; b.zip</file></list>`}, "a & b.zip sub/"},
		"WebDAV": {dav(`<d:response><d:href>/in/a%20b/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>
			<d:response><d:href>HOST/in/a%20b/x%20y.zip</d:href><d:propstat><d:prop><d:getcontentlength>7</d:getcontentlength><d:getetag>"e"</d:getetag><d:getlastmodified>Fri, 01 May 2026 10:00:00 GMT</d:getlastmodified></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>
			<d:response><d:href>/in/a%20b/sub</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>
			<d:response><d:href>/in/other.zip</d:href></d:response>
			<d:response><d:href>/in/a%20b/n.zip</d:href><d:propstat><d:prop><d:getetag>"f"</d:getetag></d:prop><d:status>HTTP/1.1 404 Not Found</d:status></d:propstat></d:response>`), "n.zip sub/ x y.zip"},
		"WebDAV behind another": {dav(`<d:response><d:href>/internal/in/</d:href></d:response><d:response><d:href>/internal/in/x.zip</d:href></d:response>`), "x.zip"},
		"WebDAV of another":     {dav(`<d:response><d:href>/internal/y.zip</d:href></d:response><d:response><d:href>/other/x.zip</d:href></d:response>`), "of another folder"},
		"WebDAV, nothing":       {dav(``), "of another folder"},
		"WebDAV, cut off":       {dav(`<d:response><d:href>/in/a%20b/x.zip</d:href></d:respo`), "malformed"},
		"WebDAV, no XML":        {asWritten{http.StatusMultiStatus, "application/xml", `<d:multistatus xmlns:d="DAV:"><d:response>`}, "malformed"},
	} {
		infos, err := list(t, c.says)
		if err != nil {
			require.ErrorIs(t, err, fault.Unreadable, name)
			assert.NotEmpty(t, c.want, name)
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		var names []string
		for _, info := range infos {
			at := path.Join(info.Below, info.Name)
			if info.Folder {
				at += "/"
			}
			if info.Query != "" {
				at += "?" + info.Query
			}
			if info.Whole {
				assert.Equal(t, wire.Info{Name: "x y.zip", Size: 7, ETag: `"e"`, Modified: time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC), Whole: true}, info)
			}
			names = append(names, at)
		}
		slices.Sort(names)
		assert.Equal(t, c.want, strings.Join(names, " "), name)
	}
}

// Whatever a page says, what is found lies below the folder, and is called as a file can be.
func FuzzIndex(f *testing.F) {
	folder, err := url.Parse("http://gauges.example/in/a%20b/")
	require.NoError(f, err)
	f.Add("text/html", `<a href="a.zip"><a href="../b"><a href=//x/y><a href="%2e%2e/%00">`)
	f.Add("application/json", `[{"name":"../a","type":"file"}]`)
	f.Add("text/xml", `<list><file>../a</file></list>`)
	f.Add("dav", `<d:multistatus xmlns:d="DAV:"><d:response><d:href>/in/a%20b/%2e%2e</d:href></d:response></d:multistatus>`)
	f.Fuzz(func(t *testing.T, kind, text string) {
		infos, err := index(kind, []byte(text), folder)
		if kind == "dav" {
			infos, err = multistatus([]byte(text), folder)
		}
		for _, info := range infos {
			require.NoError(t, err)
			if kind == "text/html" || kind == "dav" {
				assert.NotContains(t, info.Name, "/")
				assert.NotEmpty(t, info.Name)
			}
		}
	})
}
