package parts

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// mostOpen bounds how many files of one set are open at a time.
const mostOpen = 32

// Reader reads the parts of a set as one. It may be used on several goroutines.
type Reader struct {
	set    *Set
	layout archive.Parts
	read   *atomic.Int64 // counts what was read; nil: nobody asks

	mu   sync.Mutex
	open map[int]*handle
	used []int // open parts, the one used last at the end
}

// handle is an open part.
type handle struct {
	file  *os.File
	users int
}

// Open makes a set readable. It must have passed Check.
func (s *Set) Open() *Reader {
	return &Reader{set: s, layout: s.Layout(), open: map[int]*handle{}}
}

// Size is that of the whole, in bytes.
func (r *Reader) Size() int64 {
	last := r.layout[len(r.layout)-1]
	return last.Start + last.Size
}

// ReadAt reads over the borders of parts. A part that changed since it was found
// is of kind fault.Unreadable.
func (r *Reader) ReadAt(p []byte, offset int64) (n int, err error) {
	if offset >= r.Size() {
		return 0, io.EOF
	}
	for i := r.layout.At(offset); n < len(p); i++ {
		if i == len(r.layout) {
			return n, io.EOF
		}
		at := offset + int64(n) - r.layout[i].Start
		piece := p[n:min(int64(len(p)), int64(n)+r.layout[i].Size-at)]
		m, err := r.readPart(i, piece, at)
		n += m
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

func (r *Reader) readPart(i int, p []byte, at int64) (int, error) {
	h, err := r.acquire(i)
	if err != nil {
		return 0, err
	}
	defer r.release(h)
	n, err := h.file.ReadAt(p, at)
	if r.read != nil {
		r.read.Add(int64(n))
	}
	if err == io.EOF {
		return n, changed(r.set.Parts[i].Path)
	}
	if err == nil {
		err = r.unchanged(i, h.file)
	}
	return n, fault.Reading(r.set.Parts[i].Path, err)
}

// unchanged holds an open part against what it was when it was found.
func (r *Reader) unchanged(i int, file *os.File) error {
	info, err := file.Stat()
	if err != nil {
		return err
	}
	was := r.set.Parts[i].Info
	if info.Size() != was.Size() || !info.ModTime().Equal(was.ModTime()) {
		return changed(r.set.Parts[i].Path)
	}
	return nil
}

func changed(path string) error {
	return fault.New(fault.Unreadable, "part %s changed while it was read", filepath.Base(path)).
		Advise("run it again when the set has arrived; --wait waits for that")
}

// acquire opens a part, or finds it open.
func (r *Reader) acquire(i int) (*handle, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h := r.open[i]; h != nil {
		h.users++
		if at := slices.Index(r.used, i); at < len(r.used)-1 {
			r.used = append(slices.Delete(r.used, at, at+1), i)
		}
		return h, nil
	}
	for at := 0; at < len(r.used) && len(r.used) >= mostOpen; {
		old := r.used[at]
		if r.open[old].users > 0 {
			at++
			continue
		}
		r.open[old].file.Close()
		delete(r.open, old)
		r.used = slices.Delete(r.used, at, at+1)
	}
	part := &r.set.Parts[i]
	file, err := os.Open(part.Path)
	if err != nil {
		return nil, fault.Reading(part.Path, err)
	}
	h := &handle{file: file, users: 1}
	r.open[i] = h
	r.used = append(r.used, i)
	return h, nil
}

func (r *Reader) release(h *handle) {
	r.mu.Lock()
	h.users--
	r.mu.Unlock()
}

// Close closes the parts.
func (r *Reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, h := range r.open {
		h.file.Close() // read only: nothing can be lost
	}
	r.open, r.used = nil, nil
	return nil
}
