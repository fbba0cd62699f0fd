package zip

import (
	"errors"
	"fmt"
	"io"
	"math"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// A SplitError is in the error of Open for one segment of a split archive (8.1)
// that was taken for the whole, or for a wrong number of them.
type SplitError struct {
	Segments int64 // that the archive has
	Found    int   // that there are; 0: it was taken for the whole
}

func (e *SplitError) Error() string {
	if e.Found == 0 {
		return fmt.Sprintf("it is the last of %d parts of an archive, and the others are missing", e.Segments)
	}
	return fmt.Sprintf("its last part says that there are %d parts, and there are %d", e.Segments, e.Found)
}

func isSplit(err error) bool {
	_, split := errors.AsType[*SplitError](err)
	return split
}

// Segments finds from the records at the end of a file how many parts an archive
// has of which this is the last: 1 for a complete one. A file that is not the
// end of an archive is of kind fault.Damaged.
func Segments(r io.ReaderAt, size int64) (int64, error) {
	c := newCached(r)
	defer c.release()
	_, err := findEnd(c, size, nil)
	if split, ok := errors.AsType[*SplitError](err); ok {
		return split.Segments, nil
	}
	return 1, err
}

// segments are the parts of an archive, seen as one. Nil for one that is whole.
type segments archive.Parts

// position turns a segment's number and an offset in it into an offset in the
// whole. What is nowhere becomes an offset that is beyond any file.
func (s segments) position(disk uint32, offset uint64) int64 {
	if len(s) == 0 {
		return int64(min(offset, math.MaxInt64))
	}
	if int64(disk) >= int64(len(s)) || offset > uint64(s[disk].Size) {
		return math.MaxInt64
	}
	return s[disk].Start + int64(offset)
}

func (s segments) at(offset int64) int { return archive.Parts(s).At(offset) }

// blame turns a directory that does not fit the bytes before it into what it
// comes from in a set: a part that is short, or of another set.
func (s segments) blame(err error) error {
	if len(s) < 2 || err == nil {
		return err
	}
	return fault.New(fault.Incomplete, "its parts do not fit its directory: %w", err).
		Advise("a part is incomplete, or of another set; fetch the set again")
}

// checkParts makes sure that in every part in which an entry starts, the first
// one to do so is where the directory says: a part of another set is found
// before any work.
func (z *Reader) checkParts() error {
	if len(z.parts) < 2 {
		return nil
	}
	first := make([]int, len(z.parts))
	for i := range first {
		first[i] = -1
	}
	for i := range z.entries {
		at := z.parts.at(z.entries[i].Offset)
		if first[at] < 0 || z.entries[i].Offset < z.entries[first[at]].Offset {
			first[at] = i
		}
	}
	for part, i := range first {
		if i < 0 {
			continue
		}
		name := z.storedName(i)
		header := make([]byte, localLength+len(name))
		if _, err := z.r.ReadAt(header, z.entries[i].Offset); err != nil {
			return fault.Reading("", err)
		}
		if le.Uint32(header) != localSignature || string(header[localLength:]) != name {
			return fault.New(fault.Incomplete, "part %d (%s) is of another set, or in the wrong place: entry %s should start in it, and does not",
				part+1, z.parts[part].Name, quote(z.entries[i].Path)).Advise("fetch that part again, or put the parts into order")
		}
	}
	return nil
}

// atBorder turns damage of an entry that fills whole parts, for whose order no
// other entry vouches, into what it is likely to come from.
func (d *data) atBorder(err error) error {
	if d.z.parts == nil || fault.Of(err) != fault.Damaged {
		return err
	}
	first, last := d.z.parts.at(d.position), d.z.parts.at(d.position+d.entry.Packed-1)
	if last-first < 2 {
		return err
	}
	what := fmt.Sprintf("in parts %d to %d", first+2, last)
	if d.stream != nil && d.section != nil && d.section.left+int64(d.stream.Buffered()) > 0 {
		what = archive.Parts(d.z.parts).Border(max(first+1, d.z.parts.at(d.section.position-int64(d.stream.Buffered()))))
	}
	return fault.New(fault.Incomplete, "the data breaks %s: %w", what, err).
		Advise("a part is damaged, of another set, or in the wrong place; fetch the set again")
}
