package stage

import (
	"io"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// A Writer stages items of a unit. The handle of the folder that was last written to is
// kept; each goroutine uses its own, and closes it before the commit.
type Writer struct {
	u   *staging
	rel string
	dir *folder.Folder
}

// Writer returns a new one.
func (u *staging) Writer() *Writer { return &Writer{u: u} }

// Write stages the data of item i. An error of fill is returned as it is, one
// of the file system as kind fault.Unwritable.
func (w *Writer) Write(i int, fill func(to io.Writer) error) error {
	it := &w.u.items[i]
	f, err := w.make(i)
	if err == nil {
		w.u.staged[i].Store(true)
	}
	return write(w.u.site, f, err, it, w.u.result[i].Path, fill)
}

func (w *Writer) make(i int) (folder.File, error) {
	rel, name := w.u.at(i)
	if rel == "." {
		return w.u.loose.make(w.u.id, w.u.number(i), &w.u.items[i])
	}
	dir, err := w.at(rel)
	if err != nil {
		return nil, err
	}
	perm := w.u.items[i].perm()
	if area := w.u.root.area; area.nameless() && area.onDisk {
		return area.MakeFor(dir.Handle, name, perm)
	}
	return dir.Make(name, perm)
}

// at returns the handle of a folder of the staging area.
func (w *Writer) at(rel string) (*folder.Folder, error) {
	if rel == "." {
		return w.u.root.area.Folder, nil
	}
	if w.dir != nil && w.rel == rel {
		return w.dir, nil
	}
	w.Close()
	dir, err := folder.Open(w.u.root.area.Root, rel)
	if err != nil {
		return nil, err
	}
	w.dir, w.rel = dir, rel
	return dir, nil
}

// Close lets go of the folder.
func (w *Writer) Close() {
	if w.dir != nil {
		w.dir.Close()
		w.dir = nil
	}
}

// target is the file that an item is written to; its errors name the file.
type target struct {
	f    folder.File
	site *site
	rel  string
}

func (t *target) failed(err error) error {
	if err == nil {
		return nil
	}
	return fault.Writing(t.site.full(t.rel), err)
}

func (t *target) Write(p []byte) (int, error) {
	n, err := t.f.Write(p)
	return n, t.failed(err)
}

// WriteHole is that of archive.HoleWriter: the file system makes the hole.
func (t *target) WriteHole(n int64) error { return t.failed(t.f.Hole(n)) }

// write writes a new file that goes to a path below the root, unless making it
// failed already.
func write(s *site, f folder.File, err error, it *Item, rel string, fill func(to io.Writer) error) error {
	t := &target{f, s, rel}
	if err != nil {
		return t.failed(err)
	}
	err = fill(t)
	if finished := t.failed(f.Finish(it.Modified)); err == nil {
		err = finished
	}
	return err
}

// link stages a symbolic link.
func (w *Writer) link(i int) error {
	rel, name := w.u.at(i)
	dir, err := w.at(rel)
	if err != nil {
		return err
	}
	it := &w.u.items[i]
	if err := dir.MakeSymlink(name, it.Link, w.u.leadsToFolder(i)); err != nil {
		return err
	}
	w.u.staged[i].Store(true)
	if it.Modified.IsZero() {
		return nil
	}
	return dir.SetTime(name, it.Modified)
}
