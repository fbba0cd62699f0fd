// Package cut makes sets in parts out of files and archives, and files out of sets,
// with lists of SHA-256 sums. What belongs to a set is the business of core/parts.
package cut

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/storage"
)

// Style is how new sets are named and cut.
type Style uint8

// The styles.
const (
	Numbered Style = iota // name.001, name.002 …: plain pieces
	ZIP                   // name.z01 … name.zip: a split ZIP archive
)

// mostParts is how many parts a set can have: their numbers differ from dates
// by their length.
const mostParts = 99_999

// Options say how a new set is made.
type Options struct {
	PartSize int64
	Style    Style
	Replace  bool // an earlier set of that name
	Sites    newfile.Sites
}

// Check finds a size that the style does not allow: kind fault.Usage.
func (c Options) Check() error {
	switch {
	case c.PartSize < 1:
		return fault.New(fault.Usage, "the size of parts must be at least one byte")
	case c.Style == ZIP && (c.PartSize < zip.MinSegment || c.PartSize > zip.MaxSegment):
		return fault.New(fault.Usage, "the parts of a split ZIP archive have from 64 KiB to 4 GiB less one byte").
			Suggest(fault.OtherParts)
	}
	return nil
}

// Names are paths that a set of which the whole is called path takes however many
// parts it has: its first or last part, and the list of sums.
func (c Options) Names(path string) []string {
	w := Writer{Options: c, path: path}
	folder := storage.Dir(path)
	return []string{storage.Join(folder, w.last()), storage.Join(folder, w.list())}
}

// Writer writes a new set. Its parts appear, with a list of their SHA-256 sums,
// when all of it is there.
type Writer struct {
	Options
	path    string // of the whole
	earlier *parts.Set
	olds    []*disposal.Old // what stands where it goes
	files   *newfile.NewFiles
	part    storage.File
	count   int   // of parts
	left    int64 // room in the part
	block   []byte
	sums    [][]byte
	listSum [sha256.Size]byte
	sum     hash.Hash // of the part
	whole   hash.Hash // nil: the parts are no cut of it
	size    int64
	names   []string
	written Written
	reader  *blob.Joined
}

// blockSize is how much is written and summed at a time.
const blockSize = 1 << 20

// Create starts a set; path is that of the whole, whose folder is made if missing.
// Parts of that name that are there already are of kind fault.Refused.
func Create(path string, cut Options) (*Writer, error) {
	if err := cut.Check(); err != nil {
		return nil, err
	}
	w := &Writer{Options: cut, path: path, block: make([]byte, 0, blockSize)}
	if cut.Style == Numbered {
		w.whole = sha256.New()
	}
	var err error
	if w.earlier, err = parts.At(cut.Sites.Sites, storage.Join(storage.Dir(path), w.name(0)), nil); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if w.earlier != nil && w.earlier.Found() > 0 && !cut.Replace {
		return nil, fault.At(path, fault.New(fault.Refused, "%d parts of that name are there already", w.earlier.Found()).
			Suggest(fault.ReplaceIt))
	}
	seen := cut.Names(path)
	if w.earlier != nil {
		seen = append(seen, w.earlier.Present()...)
	}
	for _, name := range seen {
		old, err := cut.Sites.Look(name)
		if err != nil {
			return nil, err
		}
		if old.There() && !cut.Replace {
			return nil, fault.At(name, fault.New(fault.Refused, "it exists already").Suggest(fault.ReplaceIt))
		}
		w.olds = append(w.olds, old)
	}
	if w.files, err = cut.Sites.CreateIn(storage.Dir(path)); err != nil {
		return nil, err
	}
	for _, old := range w.olds {
		w.files.Over(old)
	}
	return w, nil
}

// name is that of a part, but for the last of a split ZIP archive.
func (w *Writer) name(i int) string {
	if w.Style == ZIP {
		return fmt.Sprintf("%s.z%02d", w.stem(), i+1)
	}
	return fmt.Sprintf("%s.%03d", storage.Base(w.path), i+1)
}

func (w *Writer) stem() string {
	return strings.TrimSuffix(storage.Base(w.path), path.Ext(storage.Base(w.path)))
}

// last is the name that only the end of a set decides: the last part of a split
// ZIP archive, the first of another.
func (w *Writer) last() string {
	if w.Style == ZIP {
		return w.stem() + ".zip"
	}
	return w.name(0)
}

// list is the name of the list of sums.
func (w *Writer) list() string {
	if w.Style == ZIP {
		return w.last() + ".sha256"
	}
	return storage.Base(w.path) + ".sha256"
}

// Write appends to the set.
func (w *Writer) Write(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		if err := w.open(); err != nil {
			return n, err
		}
		m := int(min(int64(len(p)-n), w.left, int64(blockSize-len(w.block))))
		w.block = append(w.block, p[n:n+m]...)
		w.left -= int64(m)
		w.size += int64(m)
		n += m
		if w.left == 0 || len(w.block) == blockSize {
			if err := w.flush(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// ReadFrom appends all of r.
func (w *Writer) ReadFrom(r io.Reader) (int64, error) {
	for start := w.size; ; {
		if w.part != nil && w.left == 0 { // only what there is begins another part
			var next [1]byte
			if _, err := io.ReadFull(r, next[:]); err == io.EOF {
				return w.size - start, nil
			} else if err != nil {
				return w.size - start, err
			}
			if _, err := w.Write(next[:]); err != nil {
				return w.size - start, err
			}
		}
		if err := w.open(); err != nil {
			return w.size - start, err
		}
		at := len(w.block)
		n, err := r.Read(w.block[at:min(int64(blockSize), int64(at)+w.left)])
		w.block = w.block[:at+n]
		w.left -= int64(n)
		w.size += int64(n)
		if err == nil && (w.left == 0 || len(w.block) == blockSize) {
			err = w.flush()
		}
		switch {
		case err == io.EOF:
			return w.size - start, nil
		case err != nil:
			return w.size - start, err
		}
	}
}

// open makes sure that there is room in a part.
func (w *Writer) open() error {
	if w.left > 0 && w.part != nil {
		return nil
	}
	if err := w.close(); err != nil {
		return err
	}
	if w.count == mostParts {
		return tooMany()
	}
	var err error
	w.part, err = w.files.Next()
	w.count++
	w.left, w.sum = w.PartSize, sha256.New()
	return fault.Writing(w.path, err)
}

func tooMany() error {
	return fault.New(fault.Usage, "it would be more than %d parts", mostParts).Suggest(fault.LargerParts)
}

// flush writes the block, and sums it meanwhile.
func (w *Writer) flush() error {
	if len(w.block) == 0 {
		return nil
	}
	err := writeAll(w.block, w.part, w.sum, w.whole)
	w.block = w.block[:0]
	return fault.Writing(w.path, err)
}

// close completes a part.
func (w *Writer) close() error {
	if w.part == nil {
		return nil
	}
	err := w.flush()
	if synced := w.part.Sync(); err == nil {
		err = synced
	}
	if closed := w.part.Close(); err == nil {
		err = closed
	}
	w.part, w.left = nil, 0
	w.sums = append(w.sums, w.sum.Sum(nil))
	return fault.Writing(w.path, err)
}

// Reserve begins a new part where n bytes do not fit into this one; see
// zip.Segmented.
func (w *Writer) Reserve(n int) (segment int, offset int64, err error) {
	if int64(n) > w.PartSize {
		return 0, 0, fault.New(fault.Usage, "a record of %d bytes does not fit into a part", n).Suggest(fault.LargerParts)
	}
	if w.left < int64(n) {
		w.left = 0
	}
	err = w.open()
	return w.count - 1, w.PartSize - w.left, err
}

// A Written is a set that was written.
type Written struct {
	Parts  []string          // absolute paths, in order
	List   string            // of the sums
	SHA256 map[string][]byte // of all of these
	Size   int64
}

// Finish completes the parts and the list of their sums. They are still hidden.
func (w *Writer) Finish() (Written, error) {
	names, err := w.finish()
	if err != nil {
		return Written{}, err
	}
	w.names = names
	w.written.Size = w.size
	folder := storage.Dir(w.path)
	for _, name := range names[:len(names)-1] {
		w.written.Parts = append(w.written.Parts, storage.Join(folder, name))
	}
	w.written.List = storage.Join(folder, w.list())
	w.written.SHA256 = map[string][]byte{w.written.List: w.listSum[:]}
	for i, path := range w.written.Parts {
		w.written.SHA256[path] = w.sums[i]
	}
	return w.written, nil
}

// Open reads the finished parts as one. What it returns is closed by Commit or
// Discard.
func (w *Writer) Open() (*blob.Joined, archive.Parts, error) {
	set := &parts.Set{}
	for i := range w.written.Parts {
		file, err := w.files.Find(i)
		if err != nil {
			return nil, nil, err
		}
		set.Parts = append(set.Parts, parts.Part{File: file})
	}
	w.reader = set.Open()
	return w.reader, set.Layout(), nil
}

// Commit lets the set appear, after Finish.
func (w *Writer) Commit() error {
	w.closeReader()
	if err := w.files.Commit(w.names); err != nil {
		return err
	}
	for _, old := range w.olds { // the old set may have had more parts
		if old.There() && !slices.Contains(w.names, storage.Base(old.Path())) {
			if err := old.Remove(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *Writer) closeReader() {
	if w.reader != nil {
		w.reader.Close() // read only: nothing can be lost
		w.reader = nil
	}
}

// finish completes the last part and writes the list of sums. It returns the
// names of all files, the list at the end.
func (w *Writer) finish() ([]string, error) {
	if w.count == 0 { // of nothing, one empty part
		if err := w.open(); err != nil {
			return nil, err
		}
	}
	if err := w.unsplit(); err != nil {
		return nil, err
	}
	if err := w.close(); err != nil {
		return nil, err
	}
	names := make([]string, w.count)
	for i := range names {
		names[i] = w.name(i)
	}
	if w.Style == ZIP {
		names[w.count-1] = w.last()
	}
	var list bytes.Buffer
	for i, name := range names {
		fmt.Fprintf(&list, "%x  %s\n", w.sums[i], name)
	}
	if w.whole != nil {
		fmt.Fprintf(&list, "# put together: %x  %s\n", w.whole.Sum(nil), storage.Base(w.path))
	}
	f, err := w.files.Next()
	if err != nil {
		return nil, fault.Writing(w.path, err)
	}
	w.listSum = sha256.Sum256(list.Bytes())
	_, err = f.Write(list.Bytes())
	if synced := f.Sync(); err == nil {
		err = synced
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	return append(names, w.list()), fault.Writing(w.path, err)
}

// unsplit marks a split ZIP archive of which one part turned out to be all.
func (w *Writer) unsplit() error {
	if w.Style != ZIP || w.count > 1 {
		return nil
	}
	if err := w.flush(); err != nil {
		return err
	}
	if _, err := w.part.WriteAt(zip.Unsplit, 0); err != nil {
		return fault.Writing(w.path, err)
	}
	w.sum.Reset()
	_, err := io.Copy(w.sum, io.NewSectionReader(w.part, 0, w.size))
	return fault.Writing(w.path, err)
}

// Discard removes what was written so far.
func (w *Writer) Discard() error {
	w.closeReader()
	if w.part != nil {
		w.part.Close()
		w.part = nil
	}
	return w.files.Discard()
}
