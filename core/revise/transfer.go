// Package revise makes new archives out of old ones: it edits one, or rewrites
// many in another format, method, lock or number of parts. What can stay packed
// is copied as it is.
package revise

import (
	"context"
	"fmt"
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/format/tar"
	"widecrate/core/format/zip"
	"widecrate/core/walk"
)

// transfer brings entries of one archive into another.
type transfer struct {
	ctx       context.Context
	from      *walk.Archive
	to        archive.Writer
	needsSize bool

	// decide gives the path that an entry gets; empty: it is left out.
	decide func(i int, e *archive.Entry) (string, error)

	// packed says whether a ZIP entry may stay as it is packed.
	packed func(e *archive.Entry) bool

	// through is what decoded data is read through.
	through func(io.Reader) io.Reader

	places map[string]string // of files that passed by under another path; empty: they were left out
	notes  notes
}

// notes count what was done, and what could not be kept.
type notes struct {
	packed, repacked int
	special          int
	subsecond        int
	unlocked         int
	links            map[string]string // hard links to what has passed by: path, target
}

// rawStream and rawWriter are those of tars, whose headers can be copied as they
// are.
type (
	rawStream interface {
		archive.Stream
		Raw() []byte
	}
	rawWriter interface {
		AddRaw(raw []byte, size int64, content io.Reader) error
	}
)

func (t *transfer) run() error {
	t.notes.links, t.places = map[string]string{}, map[string]string{}
	z, fromZIP := t.from.Reader.(*zip.Reader)
	w, toZIP := t.to.(*zip.Writer)
	if fromZIP && toZIP {
		return t.betweenZIPs(z, w)
	}
	if s := t.from.Ordered(); s != nil {
		return t.inOrder(s)
	}
	for i := range t.from.Entries() {
		e := t.from.Entries()[i]
		path, err := t.decide(i, &e)
		if err != nil {
			return err
		}
		if path == "" {
			continue
		}
		if err := t.decoded(i, e, path); err != nil {
			return fault.At(e.Path, err)
		}
	}
	return nil
}

// betweenZIPs copies entries packed where that is allowed.
func (t *transfer) betweenZIPs(z *zip.Reader, w *zip.Writer) error {
	w.CopyComment(z)
	return z.EachPacked(func(p zip.Packed) error {
		if t.ctx.Err() != nil {
			return t.ctx.Err()
		}
		e := z.Entries()[p.Index()]
		path, err := t.decide(p.Index(), &e)
		switch {
		case err != nil:
			return err
		case path == "":
			return nil
		case !t.packed(&e):
			return fault.At(e.Path, t.decoded(p.Index(), e, path))
		case path == e.Path:
			path = ""
		}
		t.notes.packed++
		return w.AddPacked(t.ctx, p, path)
	})
}

// decoded adds an entry of an archive that has a directory.
func (t *transfer) decoded(i int, e archive.Entry, path string) error {
	if e.Kind == archive.Symlink && e.Link == "" {
		var err error
		if e.Link, err = archive.LinkTarget(t.from.Reader, i); err != nil {
			return err
		}
	}
	var data io.Reader
	if e.Kind == archive.File {
		d, err := t.from.Open(i)
		if err != nil {
			return err
		}
		defer d.Close()
		data = t.through(d)
	}
	return t.add(e, path, data)
}

// inOrder takes the entries as they pass by.
func (t *transfer) inOrder(s archive.Stream) error {
	for i := 0; ; i++ {
		if t.ctx.Err() != nil {
			return t.ctx.Err()
		}
		e, err := s.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		path, err := t.decide(i, &e)
		if err != nil {
			return err
		}
		if e.Kind == archive.File && path != e.Path {
			t.places[e.Path] = path
		}
		if path == "" {
			continue
		}
		if err := t.pass(s, e, path); err != nil {
			return fault.At(e.Path, err)
		}
	}
}

// pass brings over the current entry: between two tars, with all that its headers
// say.
func (t *transfer) pass(s archive.Stream, e archive.Entry, path string) error {
	raws, _ := s.(rawStream)
	w, toTar := t.to.(rawWriter)
	link := e.Link
	if to, moved := t.places[e.Link]; moved && e.Kind == archive.Hardlink && toTar {
		if to == "" { // what it is a link to was left out
			t.notes.links[path] = e.Link
			return nil
		}
		link = to
	}
	var raw []byte
	if raws != nil && toTar {
		raw = raws.Raw()
	}
	if raw == nil {
		e.Link = link
		return t.add(e, path, t.through(s))
	}
	t.notes.packed++
	if path != e.Path || link != e.Link {
		var err error
		if raw, err = tar.Rename(raw, e, path, link); err != nil {
			return err
		}
	}
	return w.AddRaw(raw, e.Size, t.through(s))
}

// add encodes an entry again. What the format cannot hold is noted.
func (t *transfer) add(e archive.Entry, path string, data io.Reader) error {
	_, toTar := t.to.(rawWriter)
	from := e.Path
	e.Path = path
	switch {
	case e.Kind > archive.Hardlink:
		t.notes.special++
		return nil
	case e.Kind == archive.Hardlink && !toTar:
		t.notes.links[path] = e.Link
		return nil
	case e.Encrypted:
		t.notes.unlocked++
		e.Encrypted = false
	}
	if !toTar && e.Modified.Nanosecond() != 0 {
		t.notes.subsecond++
	}
	t.notes.repacked++
	if e.Kind == archive.File && e.Size == archive.Unknown && t.needsSize {
		return t.addAs(e, []string{path}, data)
	}
	if _, err := t.to.Add(e, data); err != nil {
		if fault.Of(err) == fault.Usage {
			err = fault.New(fault.Usage, "%s: %w", from, err)
		}
		return err
	}
	return nil
}

// inMemory is how much is kept in memory of what has to be read before it is
// added.
const inMemory = 1 << 20

// addAs adds what has no size before it was read, or goes to several paths.
func (t *transfer) addAs(e archive.Entry, paths []string, data io.Reader) error {
	kept, err := blob.Spool(data, inMemory, nil)
	if err != nil {
		return err
	}
	defer kept.Close()
	e.Size = kept.Size()
	for _, path := range paths {
		e.Path = path
		if _, err := t.to.Add(e, io.NewSectionReader(kept, 0, kept.Size())); err != nil {
			return err
		}
	}
	return nil
}

// stays reports whether a ZIP entry is packed as new ones would be.
func stays(e *archive.Entry, o archive.WriteOptions) bool {
	method := o.Method
	if method == "" {
		method = codec.Deflate
	}
	switch {
	case e.Kind == archive.Folder:
		return true
	case e.Encrypted || o.Password != "" || o.Encode.Set:
		return false
	}
	return e.Method == method || e.Method == codec.Store && e.Packed == e.Size
}

// copiesOfLinks adds hard links to a format that has none as files of their own, in
// a second pass where the first came in order.
func (t *transfer) copiesOfLinks(again func() (*walk.Archive, error)) error {
	if len(t.notes.links) == 0 {
		return nil
	}
	wanted := map[string][]string{}
	for path, target := range t.notes.links {
		wanted[target] = append(wanted[target], path)
	}
	a, err := again()
	if err != nil {
		return err
	}
	defer a.Close()
	cursor := a.Cursor(t.ctx, nil)
	defer cursor.Close()
	for len(wanted) > 0 {
		e, err := cursor.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		paths := wanted[e.Path]
		if paths == nil || e.Kind != archive.File {
			continue
		}
		delete(wanted, e.Path)
		if err := t.addAs(*e, paths, cursor); err != nil {
			return fault.At(e.Path, err)
		}
		t.notes.repacked += len(paths)
	}
	for target := range wanted {
		return fault.New(fault.Damaged, "a hard link points to %q, which is not in it", target)
	}
	return nil
}

// lost says what the new archive cannot hold, for people.
func (n *notes) lost() []string {
	var said []string
	say := func(count int, one, many string) {
		switch {
		case count == 1:
			said = append(said, "1 "+one)
		case count > 1:
			said = append(said, fmt.Sprintf("%d %s", count, many))
		}
	}
	say(n.special, "device or pipe is left out", "devices and pipes are left out")
	say(n.subsecond, "time lost its fraction of a second", "times lost their fractions of a second")
	say(len(n.links), "hard link became a file of its own", "hard links became files of their own")
	say(n.unlocked, "entry is no longer locked", "entries are no longer locked")
	return said
}
