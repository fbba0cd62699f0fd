package blob

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// mostOpen bounds how many files of one blob are open at a time.
const mostOpen = 32

// Joined is several files as one. It may be used on several goroutines.
type Joined struct {
	files  []File
	starts []int64       // of each, and the end of the last
	Read   *atomic.Int64 // counts what was read; nil: nobody asks

	mu   sync.Mutex
	idle sync.Cond // a file has no user any more
	open map[int]*handle
	data map[int]Blob // of those that do not lie on disk
	used []int        // open files, the one used last at the end
	gone bool
}

// handle is an open file.
type handle struct {
	file  *os.File
	users int
}

// Join makes several files readable as one.
func Join(files []File) *Joined {
	j := &Joined{files: files, starts: make([]int64, 1, len(files)+1), open: map[int]*handle{}}
	j.idle.L = &j.mu
	for i, f := range files {
		j.starts = append(j.starts, j.starts[i]+f.Size())
	}
	return j
}

// Size is that of all together, in bytes.
func (j *Joined) Size() int64 { return j.starts[len(j.files)] }

// Files are those that were joined.
func (j *Joined) Files() []File { return j.files }

// ReadAt reads over the borders of files. One that changed since it was found is
// of kind fault.Unreadable.
func (j *Joined) ReadAt(p []byte, offset int64) (n int, err error) {
	switch {
	case offset < 0:
		return 0, errors.New("a place before the start")
	case offset >= j.Size():
		return 0, io.EOF
	}
	i, found := slices.BinarySearch(j.starts, offset)
	if !found {
		i--
	}
	for ; n < len(p); i++ {
		if i == len(j.files) {
			return n, io.EOF
		}
		at := offset + int64(n) - j.starts[i]
		piece := p[n:min(int64(len(p)), int64(n)+j.files[i].Size()-at)]
		m, err := j.ReadFile(i, piece, at)
		n += m
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// ReadFile reads from one of the files.
func (j *Joined) ReadFile(i int, p []byte, at int64) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	if j.files[i].Open != nil {
		data, err := j.elsewhere(i)
		if err != nil {
			return 0, err
		}
		n, err := data.ReadAt(p, at)
		if err == io.EOF && n == len(p) {
			err = nil
		}
		return n, fault.Reading(j.files[i].Path, err)
	}
	h, err := j.acquire(i)
	if err != nil {
		return 0, err
	}
	defer j.release(h)
	n, err := h.file.ReadAt(p, at)
	if j.Read != nil {
		j.Read.Add(int64(n))
	}
	if err == nil || err == io.EOF {
		var now os.FileInfo
		if now, err = h.file.Stat(); err == nil {
			err = j.changed(i, now)
		}
		if err == nil && n < len(p) {
			err = io.ErrUnexpectedEOF
		}
	}
	return n, fault.Reading(j.files[i].Path, err)
}

// CopyFile writes n bytes of one of the files on disk, from at on, to another file: by
// the file system's own way of copying, where there is one. It reports false, and has done
// nothing, for a file that lies elsewhere.
func (j *Joined) CopyFile(i int, to io.Writer, at, n int64) (bool, error) {
	if j.files[i].Open != nil {
		return false, nil
	}
	f, _, err := folder.OpenRegular(j.files[i].Path)
	if err != nil {
		return true, fault.Reading(j.files[i].Path, err)
	}
	defer f.Close()
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return true, fault.Reading(j.files[i].Path, err)
	}
	copied, err := io.CopyN(to, f, n)
	if j.Read != nil {
		j.Read.Add(copied)
	}
	now, failed := f.Stat()
	if failed == nil {
		failed = j.changed(i, now)
	}
	switch {
	case failed != nil:
		return true, fault.Reading(j.files[i].Path, failed)
	case err == io.EOF:
		return true, fault.Reading(j.files[i].Path, io.ErrUnexpectedEOF)
	}
	return true, fault.Writing("", err)
}

// Foresee is that of Foreseer.
func (j *Joined) Foresee(ranges []Range) {
	for i, f := range j.files {
		var inside []Range
		for _, r := range ranges {
			if from, to := max(r.From, j.starts[i]), min(r.To, j.starts[i+1]); from < to {
				inside = append(inside, Range{from - j.starts[i], to - j.starts[i]})
			}
		}
		if f.Open == nil || inside == nil {
			continue
		}
		if data, err := j.elsewhere(i); err == nil { // the error will be reported
			Foresee(data, inside...)
		}
	}
}

// elsewhere opens a file that does not lie on disk, or finds it open.
func (j *Joined) elsewhere(i int) (Blob, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	switch {
	case j.gone:
		return nil, fault.Reading(j.files[i].Path, os.ErrClosed)
	case j.data[i] != nil:
		return j.data[i], nil
	}
	data, err := j.files[i].Open()
	if err != nil {
		return nil, fault.Reading(j.files[i].Path, err)
	}
	if j.data == nil {
		j.data = map[int]Blob{}
	}
	j.data[i] = data
	return data, nil
}

// changed says that a file is not as it was found.
func (j *Joined) changed(i int, now os.FileInfo) error {
	if j.files[i].Is(now) {
		return nil
	}
	return fault.New(fault.Unreadable, "part %s changed while it was read", filepath.Base(j.files[i].Path)).
		Advise("run it again when the set has arrived").Suggest(fault.WaitForParts)
}

// acquire opens a file, or finds it open.
func (j *Joined) acquire(i int) (*handle, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.gone {
		return nil, fault.Reading(j.files[i].Path, os.ErrClosed)
	}
	if h := j.open[i]; h != nil {
		h.users++
		if at := slices.Index(j.used, i); at < len(j.used)-1 {
			j.used = append(slices.Delete(j.used, at, at+1), i)
		}
		return h, nil
	}
	for at := 0; at < len(j.used) && len(j.used) >= mostOpen; {
		old := j.used[at]
		if j.open[old].users > 0 {
			at++
			continue
		}
		j.open[old].file.Close()
		delete(j.open, old)
		j.used = slices.Delete(j.used, at, at+1)
	}
	file, _, err := folder.OpenRegular(j.files[i].Path)
	if err != nil {
		return nil, fault.Reading(j.files[i].Path, err)
	}
	h := &handle{file: file, users: 1}
	j.open[i] = h
	j.used = append(j.used, i)
	return h, nil
}

func (j *Joined) release(h *handle) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if h.users--; h.users == 0 {
		j.idle.Broadcast()
	}
}

// Close closes the files, when nobody reads from them any more. Who comes later is
// refused.
func (j *Joined) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.gone = true
	for _, h := range j.open {
		for h.users > 0 {
			j.idle.Wait()
		}
		h.file.Close() // read only: nothing can be lost
	}
	j.open, j.used = nil, nil
	for _, data := range j.data {
		data.Close()
	}
	return nil
}
