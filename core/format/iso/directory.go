package iso

import (
	"path"
	"strings"
	"time"
	"unicode/utf16"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// record is a directory record (9.1).
type record struct {
	block  uint32 // where its data starts, extended attributes included
	attrs  uint8  // blocks of these
	size   uint32
	date   [7]byte
	flags  uint8
	unit   uint8 // not zero: it is interleaved with another
	name   []byte
	system []byte // the system use area
}

// The flags of a record (9.1.6).
const (
	flagFolder     = 1 << 1
	flagAssociated = 1 << 2
	flagMore       = 1 << 7 // another record has the next extent
)

const shortestRecord = 34

// parse reads a record; false: it contradicts its own length.
func (rec *record) parse(b []byte) bool {
	if len(b) < shortestRecord {
		return false
	}
	name := int(b[32])
	end := 33 + name
	if end > len(b) {
		return false
	}
	rec.block, rec.attrs, rec.size = le.Uint32(b[2:]), b[1], le.Uint32(b[10:])
	rec.date, rec.flags, rec.unit = [7]byte(b[18:]), b[25], b[26]
	rec.name = b[33:end]
	if name%2 == 0 {
		end++ // 9.1.12
	}
	rec.system = b[min(end, len(b)):]
	return true
}

// special reports whether it is that of the folder itself, or of the one above.
func (rec *record) special() bool { return len(rec.name) == 1 && rec.name[0] <= 1 }

// walker goes through the folders of a volume.
type walker struct {
	z         *Reader
	volume    *volume
	rockRidge bool
	skip      int            // bytes of each system use area that belong to somebody else
	seen      map[int64]bool // folders by offset
	read      int64          // bytes of folders
	continued int64          // bytes of areas in which fields go on
	names     *archive.Names
}

// directory is a folder that is still to be gone through.
type directory struct {
	path     string
	at, size int64
	depth    int
}

// deepest bounds how deep folders lie in each other: a path of more has no room
// in any system.
const deepest = 2048

// largestFolder bounds the records of a folder, in bytes: they are for a million files.
const largestFolder = 128 << 20

func (w *walker) walk() error {
	var root record
	if !root.parse(w.volume.root) || root.flags&flagFolder == 0 {
		return fault.New(fault.Damaged, "its volume descriptor has no root folder")
	}
	stack := []directory{{at: w.start(&root), size: int64(root.size)}}
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
	w.dropMoved()
	return nil
}

// start is the offset of the data of a record.
func (w *walker) start(rec *record) int64 {
	return (int64(rec.block) + int64(rec.attrs)) * w.volume.block
}

// load reads a folder. An image that has them more than once, or more of them than
// it has bytes, is built to keep us busy.
func (w *walker) load(d directory) ([]byte, error) {
	what := "folder " + d.path
	if d.path == "" {
		what = "the root folder"
	}
	if w.seen[d.at] {
		return nil, fault.New(fault.Unsafe, "%s, at offset %d, is a folder twice: it contains itself, or two share it", what, d.at).
			Advise("no honest image is built like this; do not unpack it")
	}
	w.seen[d.at] = true
	if d.depth > deepest {
		return nil, fault.New(fault.Unsafe, "its folders lie more than %d deep in each other", deepest)
	}
	if d.at+d.size > w.z.size {
		return nil, fault.New(fault.Damaged, "%s, from offset %d to %d, lies beyond the end of the image, which has %d bytes", what, d.at, d.at+d.size, w.z.size).
			Advise("the image is cut off: get it again")
	}
	if d.size > largestFolder {
		return nil, fault.New(fault.Unsafe, "%s has %d bytes", what, d.size)
	}
	if w.read += d.size; w.read > w.z.size {
		return nil, fault.New(fault.Unsafe, "its folders take more room than there is in the image")
	}
	b := make([]byte, d.size)
	if n, err := w.z.r.ReadAt(b, d.at); n < len(b) {
		return nil, fault.Reading("", err)
	}
	return b, nil
}

// eachRecord goes through the records of a folder, which lie within sectors (6.8.1.1).
func (w *walker) eachRecord(d directory, b []byte, visit func(rec *record) error) error {
	for at := 0; at < len(b); {
		length := int(b[at])
		if length == 0 {
			at = (at/sector + 1) * sector
			continue
		}
		var rec record
		if at+length > len(b) || !rec.parse(b[at:at+length]) {
			return fault.New(fault.Damaged, "the directory record at offset %d has the wrong length", d.at+int64(at))
		}
		if err := visit(&rec); err != nil {
			return err
		}
		at += length
	}
	return nil
}

// folder makes entries of what is in a folder, and returns the folders below.
func (w *walker) folder(d directory) (below []directory, err error) {
	b, err := w.load(d)
	if err != nil {
		return nil, err
	}
	open := -1 // an entry whose next extent follows
	err = w.eachRecord(d, b, func(rec *record) error {
		if rec.special() || rec.flags&flagAssociated != 0 {
			return nil
		}
		if open >= 0 {
			w.extend(open, rec)
			if rec.flags&flagMore == 0 {
				open = -1
			}
			return nil
		}
		x, err := w.extended(rec)
		if err != nil || x.moved {
			return err
		}
		inside, err := w.entry(d, rec, &x)
		if err != nil {
			return err
		}
		i := len(w.z.entries) - 1
		if inside != nil {
			below = append(below, *inside)
		} else if rec.flags&flagMore != 0 && w.z.entries[i].Kind == archive.File {
			open = i
		}
		return nil
	})
	return below, err
}

// extend adds the next extent to an entry.
func (w *walker) extend(i int, rec *record) {
	z, at, length := w.z, w.start(rec), int64(rec.size)
	if z.more == nil {
		z.more = map[int][]blob.Range{}
	}
	if z.more[i] == nil {
		z.more[i] = []blob.Range{z.data[i]}
	}
	z.more[i] = append(z.more[i], blob.Range{From: at, To: at + length})
	e := &z.entries[i]
	e.Size, e.Packed = e.Size+length, e.Packed+length
}

// entry makes an entry of a record in folder d. It returns the folder that the entry is.
func (w *walker) entry(d directory, rec *record, x *extended) (inside *directory, err error) {
	name, err := w.name(rec, x)
	if err != nil {
		return nil, err
	}
	if strings.Contains(name, "/") || name == "" {
		return nil, fault.New(fault.Unsafe, "the name %q in folder %q is none that a file can have", name, d.path)
	}
	z, at, length := w.z, w.start(rec), int64(rec.size)
	e := archive.Entry{Path: path.Join(d.path, name), Modified: recordTime(rec.date), Method: "store", Size: length, Packed: length, Offset: at}
	if name == "." || name == ".." {
		e.Path = d.path + "/" + name // which is refused where it matters
	}
	x.apply(&e)
	isFolder := rec.flags&flagFolder != 0
	if x.child != 0 {
		if at, length, err = w.moved(x.child); err != nil {
			return nil, err
		}
		isFolder = true
	}
	if isFolder {
		e.Kind = archive.Folder
		inside = &directory{e.Path, at, length, d.depth + 1}
	}
	if err := w.names.Take(e.Path, e.Link); err != nil {
		return nil, err
	}
	if e.Kind != archive.File {
		e.Size, e.Packed = 0, 0
	}
	switch i := len(z.entries); {
	case rec.unit != 0:
		w.cannot(i, "it is interleaved with another file")
	case x.strange != "":
		w.cannot(i, x.strange)
	}
	z.entries, z.data = append(z.entries, e), append(z.data, blob.Range{From: at, To: at + e.Size})
	return inside, nil
}

// cannot notes why the data of an entry is not read.
func (w *walker) cannot(i int, why string) {
	if w.z.strange == nil {
		w.z.strange = map[int]string{}
	}
	w.z.strange[i] = why
}

// moved finds a folder that was moved up because it lay too deep (RRIP 4.1.5): its
// own first record says its size.
func (w *walker) moved(block uint32) (at, size int64, err error) {
	at = int64(block) * w.volume.block
	var b [sector]byte
	var self record
	if n, _ := w.z.r.ReadAt(b[:], at); n < shortestRecord || !self.parse(b[:min(n, int(b[0]))]) || !self.special() {
		return 0, 0, fault.New(fault.Damaged, "there is no folder at offset %d, where one should have been moved to", at)
	}
	return at, int64(self.size), nil
}

// dropMoved leaves out the empty folder that folders were moved to.
func (w *walker) dropMoved() {
	z := w.z
	for i := range z.entries {
		if name := z.entries[i].Path; name != "rr_moved" && name != ".rr_moved" || z.entries[i].Kind != archive.Folder {
			continue
		}
		for k := range z.entries {
			if strings.HasPrefix(z.entries[k].Path, z.entries[i].Path+"/") {
				return
			}
		}
		z.remove(i)
		return
	}
}

// remove takes an entry without data out of the list.
func (z *Reader) remove(i int) {
	z.entries = append(z.entries[:i], z.entries[i+1:]...)
	z.data = append(z.data[:i], z.data[i+1:]...)
	z.more, z.strange = shifted(z.more, i), shifted(z.strange, i)
}

// shifted is a map by number after that number was taken out.
func shifted[V any](m map[int]V, out int) map[int]V {
	var moved map[int]V
	for i, v := range m {
		if moved == nil {
			moved = map[int]V{}
		}
		if i > out {
			i--
		}
		moved[i] = v
	}
	return moved
}

// name is the name of a record: that of Rock Ridge, or the stored one without its
// version (7.5, and the same in UCS-2 with Joliet).
func (w *walker) name(rec *record, x *extended) (string, error) {
	if w.rockRidge && x.name != "" {
		return x.name, nil
	}
	name := string(rec.name)
	if w.volume.joliet {
		units := make([]uint16, len(rec.name)/2)
		for i := range units {
			units[i] = uint16(rec.name[2*i])<<8 | uint16(rec.name[2*i+1])
		}
		name = string(utf16.Decode(units))
	}
	if rec.flags&flagFolder != 0 {
		return name, nil
	}
	if at := strings.LastIndexByte(name, ';'); at > 0 && strings.Trim(name[at+1:], "0123456789") == "" {
		name = name[:at]
	}
	if len(name) > 1 {
		name = strings.TrimSuffix(name, ".")
	}
	return name, nil
}

// recordTime reads seven bytes (9.1.5): years since 1900, month, day, hour, minute,
// second, and quarters of an hour from Greenwich. It is zero where there is none.
func recordTime(b [7]byte) time.Time {
	if b == [7]byte{} || b[1] < 1 || b[1] > 12 || b[2] < 1 || b[2] > 31 {
		return time.Time{}
	}
	zone := time.FixedZone("", int(int8(b[6]))*15*60)
	return time.Date(1900+int(b[0]), time.Month(b[1]), int(b[2]), int(b[3]), int(b[4]), int(b[5]), 0, zone)
}
