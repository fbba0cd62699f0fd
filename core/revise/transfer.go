// Package revise makes new archives out of old ones: it edits one, or rewrites
// many in another format, method, lock or number of parts. What can stay packed
// is copied as it is.
package revise

import (
	"context"
	"io"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
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
	holdsTime func(time.Time) bool // nil: any

	// decide gives the path that an entry gets; empty: it is left out.
	decide func(i int, e *archive.Entry) (string, error)

	// moves says that paths change, and so what links lead to. Else links are copied as they
	// are, locked or not.
	moves bool

	// goes says where a path of the archive goes, for links that lead there; empty: it is
	// not known.
	goes func(path string) string

	// packed says whether a ZIP entry may stay as it is packed.
	packed func(e *archive.Entry) bool

	// gone gets an entry that is left out, and the data of a file that can be read; nil:
	// nobody asks.
	gone func(e *archive.Entry, data io.Reader, meter bound.Meter) error

	// inside gives the new data of an entry that is an archive itself, or nil where nothing in it
	// changes; isInside says which are. nil: none is changed.
	inside   func(e *archive.Entry, data blob.Blob) (blob.Blob, error)
	isInside func(e *archive.Entry) bool

	locks bool        // what is encoded again is locked again
	meter bound.Meter // that decoded data passes

	// made has what was written, to be read back; nil: it is not.
	made *made

	// came has what is known of the content of each path, in a series, whose archives may bring
	// the same more than once; nil: it is none.
	came map[string]content

	passed map[string]passed // what hard links may lead to, by its path in the old archive
	notes  notes
}

// rawStream and rawWriter are those of tars, whose headers can be copied as they
// are.
type (
	rawStream interface {
		archive.Stream
		Raw() []byte
		Global() []byte
	}
	rawWriter interface {
		AddRaw(raw []byte, size int64, content io.Reader) error
	}
)

func (t *transfer) run() error {
	t.notes.links = map[string]string{}
	z, fromZIP := t.from.Directory().(*zip.Reader)
	if !fromZIP { // which knows no hard links
		t.passed = map[string]passed{}
	}
	w, toZIP := t.to.(*zip.Writer)
	if fromZIP && toZIP {
		return t.betweenZIPs(z, w)
	}
	t.notes.comment = fromZIP && z.Commented()
	for e, err := range t.from.Walk(t.ctx) {
		if err != nil {
			return err
		}
		path, err := t.decide(e.Index, e.Entry)
		if err != nil {
			return err
		}
		if err := t.pass(e, path); err != nil {
			return fault.At(e.Path, err)
		}
		if path == "" && t.gone != nil {
			if err := t.gone(e.Entry, fileOnly(e), t.meter); err != nil {
				return fault.At(e.Path, err)
			}
		}
	}
	return nil
}

// foretell finds what would keep entries from being brought over, without their data.
func (t *transfer) foretell(to archive.Format) error {
	z, _ := t.from.Directory().(*zip.Reader)
	if z == nil {
		t.passed = map[string]passed{}
	}
	_, fromTar := t.from.Stream().(rawStream)
	for e, err := range t.from.Walk(t.ctx) {
		if err != nil {
			return err
		}
		path, err := t.decide(e.Index, e.Entry)
		if err == nil {
			err = t.leadsThen(e, path)
		}
		switch {
		case err != nil:
			return err
		case path == "":
		case e.Kind > archive.Hardlink && !(fromTar && to.Hardlinks):
			t.notes.special++
		case t.opens(e.Entry):
			kept, changed, err := t.lookInside(e.Entry, e)
			if err != nil {
				return fault.At(e.Path, err)
			}
			closeAll(kept, changed)
		case z != nil && e.Encrypted && e.Kind == archive.File && !t.packed(e.Entry): // does a password open it?
			data, err := t.from.Data(e.Index)
			if err != nil {
				return fault.At(e.Path, err)
			}
			data.Close()
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
			return fault.At(e.Path, t.goneFromZIP(p.Index(), e))
		case !t.packed(&e):
			return fault.At(e.Path, t.decoded(p.Index(), e, path))
		}
		if changed, err := t.changedInZIP(p.Index(), e, path); changed || err != nil {
			return fault.At(e.Path, err)
		}
		if e.Kind == archive.Symlink && t.moves {
			from, err := archive.LinkTarget(z, p.Index())
			if err != nil {
				return fault.At(e.Path, err)
			}
			if e.Link, err = t.relink(e.Path, path, from); err != nil {
				return err
			}
			if e.Link != from {
				return fault.At(e.Path, t.add(e, path, nil))
			}
		}
		if err := t.madePacked(p.Index(), &e, path); err != nil {
			return fault.At(e.Path, err)
		}
		if path == e.Path {
			path = ""
		}
		t.notes.packed++
		return w.AddPacked(t.ctx, p, path)
	})
}

// fileOnly is the data of a file.
func fileOnly(e *walk.Entry) io.Reader {
	if e.Kind != archive.File {
		return nil
	}
	return e
}

// goneFromZIP shows an entry that is left out. What is locked cannot be read, and is
// another entry in any case.
func (t *transfer) goneFromZIP(i int, e archive.Entry) (err error) {
	if t.gone == nil || e.Encrypted {
		return nil
	}
	if e.Kind != archive.File {
		if e.Kind == archive.Symlink {
			e.Link, err = t.from.Link(i)
		}
		if err == nil {
			err = t.gone(&e, nil, t.meter)
		}
		return err
	}
	data, err := t.from.Data(i)
	if err != nil {
		return t.gone(&e, nil, t.meter)
	}
	defer data.Close()
	return t.gone(&e, data, t.meter)
}

// decoded adds an entry of a ZIP archive that is packed again.
func (t *transfer) decoded(i int, e archive.Entry, path string) (err error) {
	if e.Kind == archive.Symlink {
		if e.Link, err = t.from.Link(i); err == nil {
			e.Link, err = t.relink(e.Path, path, e.Link)
		}
		if err != nil {
			return err
		}
	}
	if e.Kind != archive.File {
		return t.add(e, path, nil)
	}
	data, err := t.from.Data(i)
	if err != nil {
		return err
	}
	defer data.Close()
	return t.add(e, path, t.meter.Reader(data))
}

// pass brings over an entry that passes by: between two tars, with all that its headers say.
func (t *transfer) pass(e *walk.Entry, path string) error {
	raw, err := t.raw(path == "")
	if err != nil {
		return err
	}
	w, toTar := t.to.(rawWriter)
	is := *e.Entry
	if is.Kind == archive.Symlink && path != "" {
		if is.Link, err = e.Target(); err != nil {
			return err
		}
	}
	link, err := t.leads(&is, path)
	if err != nil || path == "" {
		return err
	}
	if e.Kind == archive.Hardlink && (link == "" || !toTar) {
		t.notes.links[path] = t.passed[cleaned(e.Link)].data
		return nil
	}
	is.Link = link
	if t.opens(&is) {
		kept, changed, err := t.lookInside(e.Entry, e)
		defer closeAll(kept, changed)
		if err != nil {
			return err
		}
		if changed != nil {
			is.Size = changed.Size()
			return t.add(is, path, io.NewSectionReader(changed, 0, is.Size))
		}
		if raw == nil {
			return t.add(is, path, io.NewSectionReader(kept, 0, kept.Size()))
		}
		t.notes.packed++
		return t.addRaw(w, raw, e, path, link, is, io.NewSectionReader(kept, 0, kept.Size()))
	}
	data, again, err := t.merge(&is, path, t.meter.Reader(e))
	if again || err != nil {
		return err
	}
	if raw == nil {
		return t.add(is, path, data)
	}
	t.notes.packed++
	return t.addRaw(w, raw, e, path, link, is, data)
}

// addRaw adds an entry with the headers that it has in a tar.
func (t *transfer) addRaw(w rawWriter, raw []byte, e *walk.Entry, path, link string, is archive.Entry, data io.Reader) (err error) {
	is.Path = path
	data = t.made.add(is, data)
	if path != e.Path || link != e.Link {
		if raw, err = tar.Rename(raw, *e.Entry, path, link); err != nil {
			return err
		}
	}
	return w.AddRaw(raw, e.Size, data)
}

// raw are the headers of the current entry, where it goes from a tar to a tar and they can be
// copied. What they say of all entries after it is taken over, also where it is left out.
func (t *transfer) raw(leftOut bool) ([]byte, error) {
	from, fromTar := t.from.Stream().(rawStream)
	to, toTar := t.to.(rawWriter)
	if !fromTar || !toTar {
		return nil, nil
	}
	raw := from.Raw()
	if leftOut || raw == nil {
		if global := from.Global(); len(global) > 0 {
			return raw, to.AddRaw(global, 0, strings.NewReader(""))
		}
	}
	return raw, nil
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
	case e.Encrypted:
		if !t.locks {
			t.notes.unlocked++
		}
		e.Encrypted = false
	}
	if !toTar && e.Modified.Nanosecond() != 0 {
		t.notes.subsecond++
	}
	t.notes.lose(&e)
	if t.holdsTime != nil && !t.holdsTime(e.Modified) {
		t.notes.clamped++
	}
	t.notes.repacked++
	if e.Kind == archive.File && e.Size == archive.Unknown && t.needsSize {
		return t.addAs(e, []string{path}, data)
	}
	if _, err := t.to.Add(e, t.made.add(e, data)); err != nil {
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
	_, toTar := t.to.(rawWriter)
	for n, path := range paths {
		e.Path = path
		if n > 0 && toTar {
			e.Kind, e.Link, e.Size = archive.Hardlink, paths[0], 0
		}
		if _, err := t.to.Add(e, t.made.add(e, io.NewSectionReader(kept, 0, e.Size))); err != nil {
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
