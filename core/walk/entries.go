package walk

import (
	"context"
	"io"
	"iter"

	"widecrate/core/archive"
)

// An Entry is the one that a walk has come to, with its data, in the same way for all kinds
// of archive: decoded and verified as in archive.Reader. It is valid until the walk goes on.
type Entry struct {
	*archive.Entry
	Index int // from 0

	in   *Archive
	data io.ReadCloser // opened when it is asked for, of an archive with a directory
}

// Walk goes through the entries in their order, until ctx is cancelled, and counts those of
// an archive that comes in order, which can be gone through once, against its budget. An
// error ends the walk.
func (a *Archive) Walk(ctx context.Context) iter.Seq2[*Entry, error] {
	return func(yield func(*Entry, error) bool) {
		var current archive.Entry
		e := &Entry{in: a, Entry: &current}
		for ; ; e.Index++ {
			err := ctx.Err()
			switch {
			case err != nil:
			case a.directory == nil:
				if current, err = a.stream.Next(); err == nil {
					err = a.budget.Count(1)
				}
			case e.Index == len(a.Entries()):
				err = io.EOF
			default:
				e.Entry = &a.Entries()[e.Index]
			}
			if err == io.EOF {
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
			more := yield(e, nil)
			e.close()
			if !more {
				return
			}
		}
	}
}

// Target returns where the entry, a link, points to.
func (e *Entry) Target() (string, error) {
	if e.in.directory == nil {
		return e.Link, nil
	}
	return e.in.Link(e.Index)
}

// content is what the data is read from.
func (e *Entry) content() (io.Reader, error) {
	if e.in.directory == nil {
		return e.in.stream, nil
	}
	if e.data == nil {
		var err error
		if e.data, err = e.in.Data(e.Index); err != nil {
			return nil, err
		}
	}
	return e.data, nil
}

// Read reads the data.
func (e *Entry) Read(p []byte) (int, error) {
	data, err := e.content()
	if err != nil {
		return 0, err
	}
	return data.Read(p)
}

// WriteTo writes what is left of the data; see archive.HoleWriter.
func (e *Entry) WriteTo(w io.Writer) (int64, error) {
	data, err := e.content()
	if err != nil {
		return 0, err
	}
	return archive.Copy(w, data)
}

func (e *Entry) close() {
	if e.data != nil {
		e.data.Close() // read only: nothing can be lost
		e.data = nil
	}
}
