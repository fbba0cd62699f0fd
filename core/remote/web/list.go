package web

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// largestList bounds what a server may send as the list of one folder.
const largestList = 256 << 20

// propfind asks for what a listing needs (RFC 4918, section 9.1).
const propfind = `<?xml version="1.0" encoding="utf-8"?>
<propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/></prop></propfind>`

// List is that of wire.Protocol: by WebDAV where the server speaks it, else from its index page.
func (c *Client) List(ctx context.Context, folder *url.URL) ([]wire.Info, error) {
	var all []wire.Info
	err := c.Again(ctx, func() (bool, error) {
		answer, text, err := c.read(ctx, "PROPFIND", folder, []byte(propfind), func(h http.Header) {
			h.Set("Depth", "1")
			h.Set("Content-Type", "application/xml; charset=utf-8")
		})
		if err != nil {
			return false, err
		}
		if answer.StatusCode == http.StatusMultiStatus {
			all, err = multistatus(text, answer.Request.URL)
			return false, err
		}
		if answer, text, err = c.read(ctx, http.MethodGet, folder, nil, nil); err != nil {
			return false, err
		}
		if code := answer.StatusCode; code == http.StatusForbidden || code == http.StatusNotFound {
			return false, fault.New(fault.Unreadable, "%w: it answered %s", wire.ErrUnlisted, wire.Printable(answer.Status)).
				Advise("check the address; name the archives, a series of them, or have the server list the folder")
		}
		if err = refused(answer.Response); err != nil {
			return false, err
		}
		all, err = index(answer.Header.Get("Content-Type"), text, answer.Request.URL)
		return false, err
	})
	return all, err
}

// read makes a request and reads the answer to its end.
func (c *Client) read(ctx context.Context, method string, at *url.URL, body any, headers func(http.Header)) (*answer, []byte, error) {
	a, err := c.ask(ctx, method, at, body, headers)
	if err != nil {
		return nil, nil, err
	}
	defer a.close()
	text, err := io.ReadAll(io.LimitReader(&idle{Reader: a.Body, answer: a, after: c.Idle}, largestList+1))
	switch {
	case ctx.Err() != nil:
		return nil, nil, ctx.Err()
	case err != nil:
		return nil, nil, &wire.Lost{Err: err}
	case len(text) > largestList:
		return nil, nil, fault.New(fault.Unsafe, "the list of the folder is larger than %d MiB", largestList>>20)
	}
	return a, text, nil
}

// within is what is at an address below a folder; false: it is not below, is the folder itself,
// or no plain path. Of a folder below, info says so.
func within(folder *url.URL, link string) (info wire.Info, is bool) {
	to, err := folder.Parse(link)
	if err != nil || wire.Origin(to) != wire.Origin(folder) {
		return info, false
	}
	info.Query = to.RawQuery
	below, is := strings.CutPrefix(to.EscapedPath(), folder.EscapedPath())
	if !is { // it may just be written differently
		below, is = strings.CutPrefix((&url.URL{Path: to.Path}).EscapedPath(), (&url.URL{Path: folder.Path}).EscapedPath())
	}
	below, info.Folder = strings.CutSuffix(below, "/")
	if !is || below == "" || info.Folder && info.Query != "" {
		return info, false
	}
	names := strings.Split(below, "/")
	for i := range names {
		if names[i], err = url.PathUnescape(names[i]); err != nil || wire.LastPart(names[i]) != names[i] || names[i] == "" {
			return info, false
		}
	}
	last := len(names) - 1
	info.Below, info.Name, info.Size = strings.Join(names[:last], "/"), names[last], wire.Unknown
	return info, true
}

// found is what a server says of something in a list.
type found struct {
	Href     string `xml:"DAV: href"`
	PropStat []struct {
		Status     string    `xml:"DAV: status"`
		Collection *struct{} `xml:"DAV: prop>resourcetype>collection"`
		Length     string    `xml:"DAV: prop>getcontentlength"`
		Modified   string    `xml:"DAV: prop>getlastmodified"`
		ETag       string    `xml:"DAV: prop>getetag"`
	} `xml:"DAV: propstat"`
}

// multiStatus is the answer to a PROPFIND.
type multiStatus struct {
	XMLName xml.Name `xml:"DAV: multistatus"`
	All     []found  `xml:"DAV: response"`
}

// multistatus reads the answer to a PROPFIND (RFC 4918, section 13), which is about the folder
// itself, too.
func multistatus(text []byte, folder *url.URL) (all []wire.Info, err error) {
	var list multiStatus
	if err := xml.Unmarshal(text, &list); err != nil {
		return nil, fault.New(fault.Unreadable, "the list that the server sends of the folder is malformed: %w", err)
	}
	if folder = itself(folder, list.All); folder == nil {
		return nil, fault.New(fault.Unreadable, "%w: the list that it sends is of another folder", wire.ErrUnlisted).Advise("ask who runs the server")
	}
	for i := range list.All {
		if info, below := within(folder, strings.TrimSpace(list.All[i].Href)); below && info.Below == "" {
			list.All[i].complete(&info)
			all = append(all, info)
		}
	}
	return all, nil
}

// itself is the folder as the server calls it, which may be behind another that calls it
// differently; nil: it is not in the list.
func itself(folder *url.URL, list []found) *url.URL {
	var shortest *url.URL
	for i := range list {
		at, err := folder.Parse(strings.TrimSpace(list[i].Href))
		if err != nil {
			continue
		}
		if strings.TrimSuffix(at.Path, "/") == strings.TrimSuffix(folder.Path, "/") {
			return folder
		}
		if shortest == nil || len(at.Path) < len(shortest.Path) {
			shortest = at
		}
	}
	if shortest == nil || !strings.HasSuffix(shortest.Path, "/") {
		return nil
	}
	for i := range list {
		if at, err := folder.Parse(strings.TrimSpace(list[i].Href)); err != nil || !strings.HasPrefix(at.Path, shortest.Path) {
			return nil
		}
	}
	return shortest
}

// complete takes over what the server says.
func (f *found) complete(info *wire.Info) {
	for _, p := range f.PropStat {
		if p.Status != "" && !strings.Contains(p.Status, " 200") {
			continue
		}
		info.Folder, info.ETag = info.Folder || p.Collection != nil, strings.TrimSpace(p.ETag)
		if size, err := strconv.ParseInt(strings.TrimSpace(p.Length), 10, 64); err == nil && size >= 0 {
			info.Size = size
		}
		if t, err := http.ParseTime(strings.TrimSpace(p.Modified)); err == nil {
			info.Modified = t
		}
		info.Whole = info.Size != wire.Unknown && info.ETag != "" && !info.Modified.IsZero()
	}
}

// index reads the page that a server makes of a folder: a list in JSON or XML, as some can, or
// links in HTML.
func index(contentType string, text []byte, folder *url.URL) ([]wire.Info, error) {
	kind, _, _ := mime.ParseMediaType(contentType)
	switch kind {
	case "application/json":
		if all, is := jsonIndex(text); is {
			return all, nil
		}
	case "text/xml", "application/xml":
		if all, is := xmlIndex(text); is {
			return all, nil
		}
	case "text/html", "application/xhtml+xml":
		if all, is := links(text, folder); is {
			return all, nil
		}
	}
	return nil, fault.New(fault.Unreadable, "%w: what it sends there is no index of a folder", wire.ErrUnlisted).
		Advise("name the archives, a series of them, or have the server list the folder")
}

// jsonIndex reads a list of objects with names, types, times and sizes.
func jsonIndex(text []byte) (all []wire.Info, is bool) {
	var list []struct {
		Name, Type, MTime string
		Size              *int64
	}
	if json.Unmarshal(text, &list) != nil {
		return nil, false
	}
	for _, one := range list {
		info := wire.Info{Name: one.Name, Folder: one.Type == "directory", Size: wire.Unknown}
		if one.Size != nil {
			info.Size = *one.Size
		}
		info.Modified, _ = http.ParseTime(one.MTime)
		all = append(all, info)
	}
	return all, true
}

// xmlIndex reads a list of elements file and directory.
func xmlIndex(text []byte) (all []wire.Info, is bool) {
	var list struct {
		XMLName xml.Name `xml:"list"`
		All     []struct {
			XMLName xml.Name
			Name    string `xml:",chardata"`
			MTime   string `xml:"mtime,attr"`
			Size    string `xml:"size,attr"`
		} `xml:",any"`
	}
	if xml.Unmarshal(text, &list) != nil {
		return nil, false
	}
	for _, one := range list.All {
		info := wire.Info{Name: one.Name, Folder: one.XMLName.Local == "directory", Size: wire.Unknown}
		if size, err := strconv.ParseInt(one.Size, 10, 64); err == nil {
			info.Size = size
		}
		info.Modified, _ = time.Parse(time.RFC3339, one.MTime)
		all = append(all, info)
	}
	return all, true
}

// links are those of an HTML page that lead below a folder. It is an index of that if it has
// any, or at least one to the folder above, or to itself in another order.
func links(text []byte, folder *url.URL) (all []wire.Info, is bool) {
	seen := map[string]bool{}
	above := folder.ResolveReference(&url.URL{Path: "../"})
	for z := html.NewTokenizer(bytes.NewReader(text)); ; {
		switch z.Next() {
		case html.ErrorToken:
			return all, is
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := z.TagName()
			if string(name) != "a" {
				continue
			}
			for more {
				var key, value []byte
				key, value, more = z.TagAttr()
				if string(key) != "href" {
					continue
				}
				link := strings.TrimSpace(string(value))
				if info, below := within(folder, link); below {
					is = true
					if at := info.Below + "/" + info.Name; !seen[at] {
						seen[at] = true
						all = append(all, info)
					}
				} else if to, err := folder.Parse(link); err == nil && to.Host == folder.Host {
					is = is || to.Path == above.Path || to.Path == folder.Path && to.RawQuery != ""
				}
			}
		}
	}
}
