package zip

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"widecrate/core/archive"
	"widecrate/core/crypt"
	"widecrate/core/fault"
)

// end is what the records at the end tell about the central directory.
type end struct {
	entries uint64 // total number of entries, 4.4.22
	start   int64  // of the central directory, in the file
	size    int64  // of the central directory
	base    int64  // bytes in front of the archive; offsets count from there
	comment []byte
	split   bool // offsets count from the start of the segment that they are in
	last    bool // its comment ends where the file does
	narrow  bool // no ZIP64 record: entries is modulo 65,536 where a writer overflowed
}

var errNoEnd = errors.New("it has no end record: either its end is missing or it is not a ZIP archive")

// How far from the end of the file the end record is looked for, and in what
// steps: far enough for the longest comment with many bytes behind it.
const (
	endSearch     = 1 << 20
	endSearchStep = 64 << 10
)

// findEnd finds the end record whose central directory is where it says: the
// one whose comment ends with the file, or else, behind trailing bytes, the one
// nearest to the end.
func findEnd(r *cached, size int64, parts segments) (end, error) {
	failure := errNoEnd
	var nearest *end
	var signature [4]byte
	le.PutUint32(signature[:], endSignature)
	for top := size; top >= endLength && size-top < endSearch; top -= endSearchStep {
		from := max(0, top-endSearchStep)
		block, err := r.block(from, min(size, top+endLength))
		if err != nil {
			return end{}, fault.Reading("", err)
		}
		for rest := block; ; {
			i := bytes.LastIndex(rest, signature[:])
			if i < 0 {
				break
			}
			rest = rest[:i+len(signature)-1]
			if i+endLength > len(block) {
				continue
			}
			e, err := readEnd(r, size, from+int64(i), block[i:i+endLength], parts)
			switch {
			case err == nil && e.last:
				return e, nil
			case isSplit(err) && e.last: // those further up belong to archives inside
				return end{}, fault.New(fault.Incomplete, "%w", err)
			case err == nil && nearest == nil:
				nearest = &e
			case failure == errNoEnd:
				failure = err
			}
		}
		if nearest != nil && size-from > endLength+max16 {
			break
		}
	}
	if nearest != nil {
		return *nearest, nil
	}
	if isSplit(failure) {
		return end{}, fault.New(fault.Incomplete, "%w", failure)
	}
	if failure == errNoEnd {
		failure = &archive.Break{Offset: size, CutOff: true, Err: failure}
	}
	return end{}, fault.New(fault.Damaged, "%w", failure)
}

// cached is an archive of which the piece read last is at hand: the records at
// the end, and of a small archive the directory as well, come in one read.
type cached struct {
	io.ReaderAt
	piece *[endSearchStep + endLength]byte
	from  int64
	held  []byte
}

var tails = sync.Pool{New: func() any { return new([endSearchStep + endLength]byte) }}

func newCached(r io.ReaderAt) *cached {
	return &cached{ReaderAt: r, piece: tails.Get().(*[endSearchStep + endLength]byte)}
}

func (c *cached) release() { tails.Put(c.piece) }

// block reads the bytes from from up to to; they are valid until the next call.
func (c *cached) block(from, to int64) ([]byte, error) {
	c.held = nil
	block := c.piece[:to-from]
	if _, err := c.ReaderAt.ReadAt(block, from); err != nil && err != io.EOF {
		return nil, err
	}
	c.from, c.held = from, block
	return block, nil
}

func (c *cached) ReadAt(p []byte, at int64) (int, error) {
	if at >= c.from && at+int64(len(p)) <= c.from+int64(len(c.held)) {
		return copy(p, c.held[at-c.from:]), nil
	}
	return c.ReaderAt.ReadAt(p, at)
}

// readEnd reads the end record at position at (4.3.16), and the ZIP64 records
// in front of it (4.3.14, 4.3.15).
func readEnd(r io.ReaderAt, size, at int64, record []byte, parts segments) (end, error) {
	f := fields{b: record[4:]}
	disk, directoryDisk := uint32(f.uint16()), uint32(f.uint16())
	f.uint16() // entries on this disk
	entries := uint64(f.uint16())
	length, offset := uint64(f.uint32()), uint64(f.uint32())
	comment := int64(f.uint16())
	if at+endLength+comment > size {
		return end{}, errors.New("its comment reaches past the end of the file")
	}
	e := end{narrow: true, last: at+endLength+comment == size, comment: make([]byte, comment)}
	if _, err := r.ReadAt(e.comment, at+endLength); err != nil && comment > 0 {
		return end{}, err
	}
	directoryEnd := at
	if at64, record := readEnd64(r, at, parts); record != nil {
		e.narrow = false
		directoryEnd = at64
		f := fields{b: record[16:]}
		wide := func(v *uint32) {
			if w := f.uint32(); *v == max16 {
				*v = w
			}
		}
		wide(&disk)
		wide(&directoryDisk)
		f.uint64() // entries on this disk
		for _, v := range []struct {
			value *uint64
			full  uint64
		}{{&entries, max16}, {&length, max32}, {&offset, max32}} {
			if w := f.uint64(); *v.value == v.full {
				*v.value = w
			}
		}
	}
	if directoryDisk > disk {
		return end{}, errors.New("its directory starts behind its end")
	}
	if disk != 0 {
		if int(disk) != len(parts)-1 {
			return e, &SplitError{Segments: int64(disk) + 1, Found: len(parts)}
		}
		e.split = true
		offset = uint64(parts.position(directoryDisk, offset))
	}
	if length > uint64(directoryEnd) || entries > length/centralLength {
		return end{}, errors.New("its end record promises a larger directory than there is room for")
	}
	e.entries, e.size = entries, int64(length)
	// The directory usually ends where the end records start. Otherwise, with
	// something between them, it can only be where its offset says.
	e.start = directoryEnd - e.size
	if offset > uint64(e.start) || !hasDirectory(r, e) || e.split {
		e.start = int64(min(offset, uint64(e.start)))
		if !hasDirectory(r, e) {
			return end{}, errors.New("its directory is not where its end record says")
		}
	}
	if e.split {
		return e, nil
	}
	e.base = e.start - int64(offset)
	if e.base > 0 && startsWith(r, localSignature) {
		// The file starts with an archive whose end is missing, and this is the
		// end of another one inside it.
		return end{}, errors.New("its end is missing: the end record found belongs to an archive inside it")
	}
	return e, nil
}

func startsWith(r io.ReaderAt, signature uint32) bool {
	var start [4]byte
	_, err := r.ReadAt(start[:], 0)
	return err == nil && le.Uint32(start[:]) == signature
}

func hasDirectory(r io.ReaderAt, e end) bool {
	if e.size == 0 {
		return e.entries == 0
	}
	var start [4]byte
	_, err := r.ReadAt(start[:], e.start)
	return err == nil && le.Uint32(start[:]) == centralSignature
}

// readEnd64 returns the ZIP64 end record that the locator in front of the end
// record at position at points to, and its own position; nil if there is none.
func readEnd64(r io.ReaderAt, at int64, parts segments) (int64, []byte) {
	locator := make([]byte, locatorLength)
	if _, err := r.ReadAt(locator, at-locatorLength); err != nil || le.Uint32(locator) != locatorSignature {
		return 0, nil
	}
	// With bytes in front of the archive the offset is off by their number;
	// the record then lies right before the locator.
	for _, position := range []int64{parts.position(le.Uint32(locator[4:]), le.Uint64(locator[8:])), int64(le.Uint64(locator[8:])), at - locatorLength - end64Length} {
		record := make([]byte, end64Length)
		if position < 0 || position > at-locatorLength-end64Length {
			continue
		}
		if _, err := r.ReadAt(record, position); err == nil && le.Uint32(record) == end64Signature {
			return position, record
		}
	}
	return 0, nil
}

// record is what the reader keeps of an entry beside the archive.Entry.
type record struct {
	name   string // as stored, undecoded
	offset int64  // of the local header, in the file
	limit  int64  // where the next local header or the directory starts
	flags  uint16
	method uint16 // as stored; of a locked entry it may stand for another
	lock   lock
}

// eachCentral goes through the central directory (4.3.12), header by header,
// with where each starts. A header is valid until the next.
func (z *Reader) eachCentral(r io.ReaderAt, e end, visit func(at int64, header []byte) error) error {
	// The buffer holds the longest header: the fixed part and three fields of
	// 16-bit length.
	in := bufio.NewReaderSize(io.NewSectionReader(r, e.start, e.size), int(min(e.size, 256<<10)))
	for left := e.size; left >= centralLength; {
		// More than the count says is read too: some writers store it modulo
		// 65,536. What follows the last header may be a signature (4.3.13).
		fixed, err := in.Peek(centralLength)
		if err != nil {
			return fault.Reading("", err)
		}
		if le.Uint32(fixed) != centralSignature {
			return nil
		}
		length := centralLength + int(le.Uint16(fixed[28:])) + int(le.Uint16(fixed[30:])) + int(le.Uint16(fixed[32:]))
		if int64(length) > left {
			return nil
		}
		header, err := in.Peek(length)
		if err != nil {
			return fault.Reading("", err)
		}
		if err := visit(e.start+e.size-left, header); err != nil {
			return err
		}
		left -= int64(length)
		if _, err := in.Discard(length); err != nil {
			return fault.Reading("", err)
		}
	}
	return nil
}

// readEntries reads the central directory.
func (z *Reader) readEntries(r io.ReaderAt, e end, o archive.Options) ([]archive.Entry, []record, error) {
	entries := make([]archive.Entry, 0, e.entries)
	records := make([]record, 0, e.entries)
	err := z.eachCentral(r, e, func(at int64, header []byte) error {
		entry, rec, err := z.readCentral(header, e, o)
		if err != nil {
			return fault.New(fault.Damaged, "directory header %d at offset %d: %w", len(entries)+1, at, err)
		}
		entries, records = append(entries, entry), append(records, rec)
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	count := uint64(len(entries))
	if e.narrow {
		count &= max16
	}
	if count != e.entries {
		return nil, nil, fault.New(fault.Damaged, "its end record promises %d entries, its directory holds %d", e.entries, len(entries))
	}
	return entries, records, z.parts.blame(setLimits(entries, records, e.start))
}

// readCentral decodes one central header.
func (z *Reader) readCentral(header []byte, end end, o archive.Options) (archive.Entry, record, error) {
	f := fields{b: header[4:]}
	host := f.uint16() >> 8
	f.uint16() // version needed
	rec := record{flags: f.uint16(), method: f.uint16()}
	clock, date := f.uint16(), f.uint16()
	e := archive.Entry{CRC32: f.uint32(), HasCRC32: true, Encrypted: rec.flags&flagEncrypted != 0}
	packed, size := uint64(f.uint32()), uint64(f.uint32())
	nameLength, extraLength := int(f.uint16()), int(f.uint16())
	commentLength := int(f.uint16())
	disk := uint32(f.uint16())
	f.uint16() // internal attributes
	attributes, offset := f.uint32(), uint64(f.uint32())
	rec.name = string(f.take(nameLength))
	extra := f.take(extraLength)
	comment := f.take(commentLength)

	e.Path = z.names.unslash(z.names.decode(rec.name, rec.flags&flagUTF8 != 0, extra), host)
	e.Modified = modified(date, clock, extra, zoneOf(o))
	wide := newZIP64(extra)
	wide.widen(&size)
	wide.widen(&packed)
	wide.widen(&offset)
	if disk == max16 {
		disk = wide.f.uint32()
	}
	if wide.f.short {
		return e, rec, errors.New("its ZIP64 field is missing or too short")
	}
	const largest = 1<<63 - 1
	if size > largest || packed > largest || offset > largest {
		return e, rec, errors.New("a size or offset is beyond any file")
	}
	e.Size, e.Packed, rec.offset = int64(size), int64(packed), int64(offset)+end.base
	if end.split {
		rec.offset = z.parts.position(disk, offset)
	} else if disk != 0 {
		return e, rec, errors.New("it lies in another part of a split archive")
	}
	e.Offset = rec.offset
	if commentLength > 0 && len(z.comments) < mostComments {
		z.comments = append(z.comments, "comment of "+e.Path+": "+z.names.decode(string(comment), rec.flags&flagUTF8 != 0, nil))
	}
	e.Method = methodName(rec.method)
	if e.Encrypted {
		if err := setLock(&e, &rec, clock, extra); err != nil {
			return e, rec, err
		}
	}
	setKind(&e, e.Path, host, attributes)
	return e, rec, nil
}

// setLock finds out how an entry is locked: the traditional way (6.1), where a
// byte of the checksum or of the time tells wrong passwords, or with AES, where
// the method is in a field. Of its two versions the second has no CRC-32.
func setLock(e *archive.Entry, rec *record, clock uint16, extra []byte) error {
	rec.lock.check = byte(e.CRC32 >> 24)
	if rec.flags&flagDescriptor != 0 {
		rec.lock.check = byte(clock >> 8)
	}
	if rec.method != methodAES {
		return nil
	}
	found := false
	eachExtra(extra, func(id uint16, data []byte) {
		if id != extraAES || len(data) < 7 {
			return
		}
		found = true
		rec.lock.strength = crypt.Strength(data[4])
		e.Method = methodName(le.Uint16(data[5:]))
		e.HasCRC32 = le.Uint16(data) == 1
	})
	if !found || !rec.lock.strength.Valid() {
		return errors.New("it is locked with AES, and the field that says how is missing or wrong")
	}
	return nil
}

// setKind derives kind and permissions from the external attributes (4.4.15).
func setKind(e *archive.Entry, name string, host uint16, attributes uint32) {
	mode := attributes >> 16
	switch {
	case host == hostUnix || host == hostDarwin:
		e.HasMode = mode != 0
		e.Mode = permissions(mode)
		switch mode & unixTypeMask {
		case unixFolder:
			e.Kind = archive.Folder
		case unixSymlink:
			e.Kind = archive.Symlink
		case unixCharacter, unixBlock:
			e.Kind = archive.Device
		case unixPipe:
			e.Kind = archive.Pipe
		case unixFile, 0:
		default:
			e.Kind = archive.Other
		}
	case attributes&dosFolder != 0 && e.Size == 0:
		e.Kind = archive.Folder
	case attributes&dosReadOnly != 0:
		e.HasMode, e.Mode = true, 0o444
	}
	if strings.HasSuffix(name, "/") {
		e.Kind = archive.Folder
	}
	if e.Kind == archive.Folder {
		e.Path = strings.TrimRight(e.Path, "/")
	}
}

// setLimits finds where the bytes of each entry must end. Entries that overlap
// are refused: the trick of small archives that unpack to enormous ones.
func setLimits(entries []archive.Entry, records []record, directory int64) error {
	order := make([]int32, len(records))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(cmp.Compare(records[a].offset, records[b].offset), cmp.Compare(a, b))
	})
	limit := directory
	for n := len(order) - 1; n >= 0; n-- {
		i := order[n]
		rec := &records[i]
		rec.limit = limit
		room := limit - rec.offset - localLength - int64(len(rec.name))
		switch {
		case rec.offset >= 0 && room >= 0 && entries[i].Packed <= room:
		case n+1 == len(order):
			return fault.New(fault.Damaged, "entry %s at offset %d reaches into the directory", quote(entries[i].Path), rec.offset)
		default:
			return fault.New(fault.Unsafe, "entry %s at offset %d overlaps entry %s", quote(entries[i].Path), rec.offset,
				quote(entries[order[n+1]].Path)).Advise("no honest archive is built like this; do not unpack it")
		}
		limit = rec.offset
	}
	return nil
}
