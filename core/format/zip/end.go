package zip

import (
	"bytes"
	"errors"
	"io"
	"iter"
	"sync"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// end is what the records at the end tell about the central directory.
type end struct {
	entries uint64 // total number of entries, 4.4.22
	start   int64  // of the central directory, in the file
	size    int64  // of the central directory
	base    int64  // bytes in front of the archive; offsets count from there
	before  bool   // which are another archive
	behind  int64  // where the archive ends
	comment []byte
	split   bool // offsets count from the start of the segment that they are in
	last    bool // its comment ends where the file does
	narrow  bool // no ZIP64 record: entries is modulo 65,536 where a writer overflowed
}

var errNoEnd = errors.New("it has no end record: either its end is missing or it is not a ZIP archive")

// How far from the end of the file the end record is looked for, and in what
// steps: far enough for the longest comment with many bytes after it.
const (
	endSearch     = 1 << 20
	endSearchStep = 64 << 10
)

// findEnd finds the end record whose central directory is where it says: the
// one whose comment ends with the file, or else, with trailing bytes after it, the
// one nearest to the end.
func findEnd(r *cached, size int64, parts segments) (end, error) {
	s := endSearchState{failure: errNoEnd, chains: mostChains}
	for top := size; top >= endLength && size-top < endSearch; top -= endSearchStep {
		from := max(0, top-endSearchStep)
		block, err := r.block(from, min(size, top+endLength))
		if err != nil {
			return end{}, fault.Reading("", err)
		}
		for i := range endsIn(block) {
			e, err := readEnd(r, size, from+int64(i), block[i:i+endLength], parts, &s.chains)
			if e.last && (err == nil || isSplit(err)) { // those further up belong to archives inside
				return e, incompleteIf(err)
			}
			s.note(e, err)
		}
		if s.nearest != nil && size-from > endLength+max16 {
			break
		}
	}
	switch {
	case s.nearest != nil:
		return *s.nearest, nil
	case isSplit(s.failure):
		return end{}, incompleteIf(s.failure)
	case s.failure == errNoEnd:
		s.failure = &archive.Break{Offset: size, CutOff: true, Err: s.failure}
	}
	return end{}, fault.New(fault.Damaged, "%w", s.failure)
}

// endSearchState is what was found so far: an end record with trailing bytes after
// it, and what is wrong with the first that was none.
type endSearchState struct {
	nearest *end
	failure error
	chains  int // directories that may still be gone through to find their sizes
}

// mostChains bounds those of all end records that are looked at: one is usual.
const mostChains = 16

func (s *endSearchState) note(e end, err error) {
	switch {
	case err == nil && s.nearest == nil:
		s.nearest = &e
	case err != nil && s.failure == errNoEnd:
		s.failure = err
	}
}

// incompleteIf makes an error about missing parts one of its kind.
func incompleteIf(err error) error {
	if err == nil {
		return nil
	}
	return fault.New(fault.Incomplete, "%w", err)
}

// endsIn goes through the places where an end record may lie in a block, the last
// one first.
func endsIn(block []byte) iter.Seq[int] {
	return func(yield func(int) bool) {
		var signature [4]byte
		le.PutUint32(signature[:], endSignature)
		for rest := block; ; {
			i := bytes.LastIndex(rest, signature[:])
			if i < 0 || i+endLength <= len(block) && !yield(i) {
				return
			}
			rest = rest[:i+len(signature)-1]
		}
	}
}

// endValues are the fields of an end record (4.3.16) that are used.
type endValues struct {
	disk, directoryDisk     uint32
	entries, length, offset uint64
	comment                 int64
}

func parseEnd(record []byte) (v endValues) {
	f := fields{b: record[4:]}
	v.disk, v.directoryDisk = uint32(f.uint16()), uint32(f.uint16())
	f.uint16() // entries on this disk
	v.entries = uint64(f.uint16())
	v.length, v.offset = uint64(f.uint32()), uint64(f.uint32())
	v.comment = int64(f.uint16())
	return v
}

// widen takes from the ZIP64 record (4.3.14) what the other has no room for.
func (v *endValues) widen(record []byte) {
	f := fields{b: record[16:]}
	for _, disk := range []*uint32{&v.disk, &v.directoryDisk} {
		if w := f.uint32(); *disk == max16 {
			*disk = w
		}
	}
	f.uint64() // entries on this disk
	for _, field := range []struct {
		value *uint64
		full  uint64
	}{{&v.entries, max16}, {&v.length, max32}, {&v.offset, max32}} {
		if w := f.uint64(); *field.value == field.full {
			*field.value = w
		}
	}
}

// readEnd reads the end record at position at (4.3.16), and the ZIP64 records
// in front of it (4.3.14, 4.3.15).
func readEnd(r io.ReaderAt, size, at int64, record []byte, parts segments, chains *int) (end, error) {
	v := parseEnd(record)
	if at+endLength+v.comment > size {
		return end{}, errors.New("its comment reaches past the end of the file")
	}
	e := end{narrow: true, behind: at + endLength + v.comment}
	e.last = e.behind == size
	directoryEnd := at
	if at64, record := readEnd64(r, at, parts); record != nil {
		e.narrow = false
		directoryEnd = at64
		v.widen(record)
	}
	if v.directoryDisk > v.disk {
		return end{}, errors.New("its directory starts after its end")
	}
	if v.disk != 0 {
		if int(v.disk) != len(parts)-1 {
			return e, &SplitError{Segments: int64(v.disk) + 1, Found: len(parts)}
		}
		e.split = true
		v.offset = uint64(parts.position(v.directoryDisk, v.offset))
	}
	if err := e.locate(r, v, directoryEnd, chains); err != nil {
		return end{}, err
	}
	e.comment = make([]byte, v.comment)
	if _, err := r.ReadAt(e.comment, at+endLength); err != nil && v.comment > 0 {
		return end{}, err
	}
	return e, nil
}

// locate finds the directory, which ends at a position or before it.
func (e *end) locate(r io.ReaderAt, v endValues, directoryEnd int64, chains *int) error {
	mismatch := v.disk == 0 && v.offset+v.length != uint64(directoryEnd)
	if mismatch {
		*chains--
	}
	if mismatch && *chains >= 0 && chainEnds(r, int64(min(v.offset, uint64(directoryEnd))), directoryEnd, v.entries) {
		// A writer's mistake that is known: only the size is wrong.
		v.length = uint64(directoryEnd) - v.offset
	}
	if v.length > uint64(directoryEnd) || v.entries > v.length/centralLength {
		return errors.New("its end record promises a larger directory than there is room for")
	}
	e.entries, e.size = v.entries, int64(v.length)
	// The directory usually ends where the end records start. Otherwise, with
	// something between them, it can only be where its offset says.
	e.start = directoryEnd - e.size
	if v.offset > uint64(e.start) || !hasDirectory(r, *e) || e.split {
		e.start = int64(min(v.offset, uint64(e.start)))
		if !hasDirectory(r, *e) {
			return errors.New("its directory is not where its end record says")
		}
	}
	if e.split {
		return nil
	}
	e.base = e.start - int64(v.offset)
	if e.base > 0 && startsWith(r, localSignature) {
		if e.before = endsAt(r, e.base); e.before {
			return nil
		}
		// The file starts with an archive whose end is missing, and this is the
		// end of another one inside it.
		return errors.New("its end is missing: the end record found belongs to an archive inside it")
	}
	return nil
}

// endsAt reports whether an archive ends at a position, with its comment.
func endsAt(r io.ReaderAt, at int64) bool {
	from := max(0, at-endLength-max16)
	block := make([]byte, at-from)
	if _, err := r.ReadAt(block, from); err != nil && err != io.EOF {
		return false
	}
	for i := range endsIn(block) {
		record := block[i : i+endLength]
		v, position := parseEnd(record), from+int64(i)
		if position+endLength+v.comment != at || v.disk != 0 {
			continue
		}
		directoryEnd := position
		if at64, record := readEnd64(r, position, nil); record != nil {
			directoryEnd = at64
			v.widen(record)
		}
		if v.length <= uint64(directoryEnd) && hasDirectory(r, end{entries: v.entries, start: directoryEnd - int64(v.length), size: int64(v.length)}) {
			return true
		}
	}
	return false
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

// chainEnds reports whether so many records of a directory (4.3.12) lie between two
// positions, without anything between them.
func chainEnds(r io.ReaderAt, from, to int64, entries uint64) bool {
	var record [centralLength]byte
	for range entries {
		if from+centralLength > to {
			return false
		}
		if _, err := r.ReadAt(record[:], from); err != nil || le.Uint32(record[:]) != centralSignature {
			return false
		}
		from += centralLength + int64(le.Uint16(record[28:])) + int64(le.Uint16(record[30:])) + int64(le.Uint16(record[32:]))
	}
	return from == to && entries > 0
}

// readEnd64 returns the ZIP64 end record that the locator in front of the end
// record at position at points to, and its own position; nil if there is none.
func readEnd64(r io.ReaderAt, at int64, parts segments) (int64, []byte) {
	if at < locatorLength {
		return 0, nil
	}
	locator := make([]byte, locatorLength)
	if _, err := r.ReadAt(locator, at-locatorLength); err != nil || le.Uint32(locator) != locatorSignature {
		return 0, nil
	}
	// With bytes in front of the archive the offset is off by their number, and may lead to
	// the record of another; the right one ends before the locator, as its size says.
	found, other := int64(0), []byte(nil)
	for _, position := range []int64{parts.position(le.Uint32(locator[4:]), le.Uint64(locator[8:])), int64(le.Uint64(locator[8:])), at - locatorLength - end64Length} {
		record := make([]byte, end64Length)
		if position < 0 || position > at-locatorLength-end64Length {
			continue
		}
		if _, err := r.ReadAt(record, position); err != nil || le.Uint32(record) != end64Signature {
			continue
		}
		if le.Uint64(record[4:]) == uint64(at-locatorLength-position-12) {
			return position, record
		}
		if other == nil {
			found, other = position, record
		}
	}
	if position, record := extended64(r, at-locatorLength); record != nil {
		return position, record
	}
	return found, other
}

// extended64 finds a ZIP64 end record that ends at a position, and has an extensible data
// sector (4.3.14.2): with bytes in front of the archive as well, only its own size says where
// it starts.
func extended64(r io.ReaderAt, end int64) (int64, []byte) {
	from := max(0, end-endSearchStep)
	block := make([]byte, end-from)
	if n, err := r.ReadAt(block, from); n < len(block) || err != nil && err != io.EOF {
		return 0, nil
	}
	signature := le.AppendUint32(nil, end64Signature)
	for i := len(block) - end64Length; i >= 0; i-- {
		if i = bytes.LastIndex(block[:i+len(signature)], signature); i < 0 {
			break
		}
		if length := le.Uint64(block[i+4:]); length == uint64(len(block)-i-12) && i+end64Length <= len(block) {
			return from + int64(i), block[i : i+end64Length]
		}
	}
	return 0, nil
}
