package udf

import (
	"io"
	"path"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Reader reads an image at any entry: its folders were gone through once.
type Reader struct {
	v       *volume
	entries []archive.Entry
	data    [][]blob.Range
}

// Open goes through the folders of the image of size bytes in r. What is wrong or cut
// off is of kind fault.Damaged; folders that lead back to themselves, and names that no
// file can have, of kind fault.Unsafe. That the data of a file is missing shows when it
// is opened.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	v, err := openVolume(blob.Cached(r), size)
	if err != nil {
		return nil, err
	}
	w := &walker{z: &Reader{v: v}, seen: map[int64]bool{}, files: map[int64]string{}, account: o.Names}
	if err := w.walk(); err != nil {
		return nil, err
	}
	v.r = r
	return w.z, w.z.checkOverlap()
}

// checkOverlap refuses files that overlap in part.
func (z *Reader) checkOverlap() error {
	return archive.CheckOverlap(z.entries, func(yield func(int, blob.Range) bool) {
		for i, ranges := range z.data {
			for _, r := range ranges {
				if !yield(i, r) {
					return
				}
			}
		}
	})
}

// Entries lists the image, one folder after the other.
func (z *Reader) Entries() []archive.Entry { return z.entries }

// Close does nothing: a Reader holds no more than memory.
func (z *Reader) Close() error { return nil }

// Extent is that of archive.Extents: from the first piece to the last.
func (z *Reader) Extent(i int) (from, to int64) {
	for n, e := range z.data[i] {
		if e.From == blob.Hole {
			continue
		}
		if n == 0 || e.From < from {
			from = e.From
		}
		to = max(to, e.To)
	}
	return from, to
}

// Stored is that of archive.Stores.
func (z *Reader) Stored(i int) (from, size int64, err error) {
	if len(z.data[i]) != 1 || z.data[i][0].From == blob.Hole || z.data[i][0].To > z.v.size {
		return 0, archive.Unknown, nil
	}
	return z.data[i][0].From, z.entries[i].Size, nil
}

// Open returns the data of entry i. An image has no checksums of it: only its length
// is checked.
func (z *Reader) Open(i int) (io.ReadCloser, error) {
	for _, e := range z.data[i] {
		if e.To > z.v.size && e.From != blob.Hole {
			return nil, fault.New(fault.Damaged, "its data from offset %d to %d lies beyond the end of the image, which has %d bytes", e.From, e.To, z.v.size).
				Advise("the image is cut off: get it again")
		}
	}
	return blob.Extents(z.v.r, z.data[i]...), nil
}

// walker goes through the folders of a volume.
type walker struct {
	z       *Reader
	seen    map[int64]bool   // folders by the offset of their entry
	files   map[int64]string // the first path of each file
	read    int64            // bytes of folders
	account *archive.Names
}

type directory struct {
	path  string
	at    int64
	where address
	depth int
}

// largestFolder bounds the list of a folder, in bytes: it is for a million files.
const largestFolder = 128 << 20

// deepest bounds how deep folders lie in each other.
const deepest = 2048

func (w *walker) walk() error {
	v := w.z.v
	at, err := v.place(v.root)
	if err != nil {
		return err
	}
	stack := []directory{{at: at, where: v.root}}
	for len(stack) > 0 {
		d := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		below, err := w.folder(d)
		if err != nil {
			return err
		}
		for i := len(below) - 1; i >= 0; i-- {
			stack = append(stack, below[i])
		}
	}
	return nil
}

// names reads the list of a folder.
func (w *walker) names(d directory) ([]byte, error) {
	v := w.z.v
	if w.seen[d.at] {
		return nil, fault.New(fault.Unsafe, "folder %q, at offset %d, is a folder twice: it contains itself, or two share it", d.path, d.at).
			Advise("no honest image is built like this; do not unpack it")
	}
	w.seen[d.at] = true
	if d.depth > deepest {
		return nil, fault.New(fault.Unsafe, "its folders lie more than %d deep in each other", deepest)
	}
	i, err := v.inode(d.at, d.where)
	if err != nil {
		return nil, err
	}
	if i.kind != kindFolder {
		return nil, damaged(d.at, "it is not that of a folder")
	}
	if i.size > largestFolder {
		return nil, fault.New(fault.Unsafe, "folder %q has %d bytes", d.path, i.size)
	}
	if w.read += i.size; w.read > v.size {
		return nil, fault.New(fault.Unsafe, "its folders take more room than there is in the image")
	}
	for _, e := range i.ranges {
		if e.To > v.size {
			return nil, fault.New(fault.Damaged, "folder %q, up to offset %d, lies beyond the end of the image, which has %d bytes", d.path, e.To, v.size).
				Advise("the image is cut off: get it again")
		}
	}
	b := make([]byte, i.size)
	_, err = io.ReadFull(blob.Extents(v.r, i.ranges...), b)
	return b, err
}

// identifier is the name of a file in a folder (part 4, 14.4).
type identifier struct {
	flags byte
	where address
	name  string
}

// The flags of an identifier (14.4.3).
const (
	flagFolder  = 1 << 1
	flagDeleted = 1 << 2
	flagParent  = 1 << 3
)

// nextIdentifier parses the first identifier of a list, and returns the rest of that.
func (d *directory) nextIdentifier(b []byte) (id identifier, rest []byte, err error) {
	const fixed = 38
	tag, ok := tagged(b)
	if !ok || tag != tagName || len(b) < fixed {
		return id, nil, damaged(d.at, "there is no name where one should be")
	}
	length, more := int(b[19]), int(le.Uint16(b[36:]))
	end := fixed + more + length
	if end > len(b) {
		return id, nil, damaged(d.at, "one of its names has the wrong length")
	}
	id = identifier{flags: b[18], where: longAddress(b[20:]).address, name: text(b[fixed+more : end])}
	return id, b[min((end+3)/4*4, len(b)):], nil
}

// folder makes entries of what is in a folder, and returns the folders below.
func (w *walker) folder(d directory) (below []directory, err error) {
	b, err := w.names(d)
	if err != nil {
		return nil, err
	}
	for len(b) > 0 {
		var id identifier
		if id, b, err = d.nextIdentifier(b); err != nil {
			return nil, err
		}
		if id.flags&(flagDeleted|flagParent) != 0 {
			continue
		}
		e, err := w.entry(d, id)
		if err != nil {
			return nil, err
		}
		if id.flags&flagFolder != 0 {
			below = append(below, directory{e.Path, e.Offset, id.where, d.depth + 1})
		}
	}
	return below, nil
}

// entry makes an entry of a name in folder d.
func (w *walker) entry(d directory, id identifier) (e archive.Entry, err error) {
	v, z := w.z.v, w.z
	if id.name == "" || strings.ContainsAny(id.name, "/\x00") {
		return e, fault.New(fault.Unsafe, "the name %q in folder %q is none that a file can have", id.name, d.path)
	}
	at, err := v.place(id.where)
	if err != nil {
		return e, err
	}
	i, err := v.inode(at, id.where)
	if err != nil {
		return e, err
	}
	e = archive.Entry{Path: path.Join(d.path, id.name), Method: "store", Modified: i.modified, Mode: i.mode, HasMode: true, Also: i.also, Kind: kindOf(i.kind), Size: i.size, Packed: i.size, Offset: at}
	if id.name == "." || id.name == ".." {
		e.Path = d.path + "/" + id.name // which is refused where it matters
	}
	if id.flags&flagFolder != 0 {
		e.Kind = archive.Folder
	}
	if e.Kind == archive.Symlink {
		if e.Link, err = w.link(i); err != nil {
			return e, err
		}
	}
	if err := w.account.Take(e.Path, e.Link); err != nil {
		return e, err
	}
	if first, again := w.files[at]; again && e.Kind == archive.File {
		e.Kind, e.Link = archive.Hardlink, first
	} else if e.Kind == archive.File {
		w.files[at] = e.Path
	}
	ranges := i.ranges
	if e.Kind != archive.File {
		e.Size, e.Packed, ranges = 0, 0, nil
	}
	z.entries, z.data = append(z.entries, e), append(z.data, ranges)
	return e, nil
}

// longestLink bounds the target of a link, in bytes.
const longestLink = 16 << 10

func (w *walker) link(i *inode) (string, error) {
	if i.size > longestLink {
		return "", fault.New(fault.Unsafe, "the target of the link at offset %d has %d bytes", i.at, i.size)
	}
	b := make([]byte, i.size)
	if _, err := io.ReadFull(blob.Extents(w.z.v.r, i.ranges...), b); err != nil {
		return "", damaged(i.at, "its target is missing")
	}
	return target(b), nil
}
