package zip

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// salvage finds entries without a directory, by their local headers, in an
// archive whose end is missing or damaged. What a local header does not have,
// kind and permissions above all, stays unknown.
func salvage(r io.ReaderAt, size int64, o archive.Options, why error) (*Reader, error) {
	z := newReader(r, o)
	var cut []string
	room := int64(mostSearched)
	for at := int64(0); ; {
		next, err := nextLocal(r, at, size)
		if err != nil {
			return nil, err
		}
		if next < 0 {
			break
		}
		e, rec, stored, err := z.readLocal(r, next, size, o, &room)
		if fault.Of(err) == fault.Unreadable {
			return nil, err
		}
		if err != nil {
			if e.Path != "" {
				cut = append(cut, quote(e.Path))
			}
			at = next + 4
			continue
		}
		z.keepName(len(z.entries), &e, &rec, stored)
		z.entries, z.records = append(z.entries, e), append(z.records, rec)
		at = rec.limit
	}
	if z.entries == nil {
		return nil, why
	}
	text := fmt.Sprintf("its directory could not be read (%s), so that entries were looked for one by one", why)
	if cut != nil {
		text += "; cut off or broken: " + strings.Join(cut[:min(len(cut), 3)], ", ")
		if len(cut) > 3 {
			text += fmt.Sprintf(" and %d more", len(cut)-3)
		}
	}
	z.broken = fault.New(fault.Damaged, "%s", text)
	return z, nil
}

// Broken says why entries may be missing from the list; nil if none are.
func (z *Reader) Broken() error { return z.broken }

// nextLocal finds the next local header, up to the directory; -1 if there is
// none.
func nextLocal(r io.ReaderAt, at, size int64) (int64, error) {
	local, central := le.AppendUint32(nil, localSignature), le.AppendUint32(nil, centralSignature)
	block := make([]byte, 64<<10)
	for at < size {
		n := int(min(int64(len(block)), size-at))
		if n < len(local) {
			return -1, nil
		}
		if err := readAll(r, block[:n], at); err != nil {
			return -1, err
		}
		if bytes.HasPrefix(block[:n], central) {
			return -1, nil
		}
		if i := bytes.Index(block[:n], local); i >= 0 {
			return at + int64(i), nil
		}
		at += int64(n - 3)
	}
	return -1, nil
}

var errCut = errors.New("it is cut off")

// readAll reads all of p, or says that the archive ends before.
func readAll(r io.ReaderAt, p []byte, at int64) error {
	_, err := r.ReadAt(p, at)
	if err == io.EOF {
		return errCut
	}
	return fault.Reading("", err)
}

// readLocal makes an entry of a local header.
func (z *Reader) readLocal(r io.ReaderAt, at, size int64, o archive.Options, room *int64) (e archive.Entry, rec record, stored string, err error) {
	var fixed [localLength]byte
	if err := readAll(r, fixed[:], at); err != nil {
		return e, rec, stored, err
	}
	f := fields{b: fixed[6:]}
	rec = record{flags: f.uint16(), method: f.uint16()}
	clock, date := f.uint16(), f.uint16()
	e = archive.Entry{CRC32: f.uint32(), HasCRC32: true, Offset: at, Encrypted: rec.flags&flagEncrypted != 0}
	packed, whole := uint64(f.uint32()), uint64(f.uint32())
	names := make([]byte, int(f.uint16())+int(f.uint16()))
	nameLength := int(le.Uint16(fixed[26:]))
	if err := readAll(r, names, at+localLength); err != nil {
		return e, rec, stored, err
	}
	if nameLength == 0 {
		return e, rec, stored, errors.New("it has no name")
	}
	extra := names[nameLength:]
	stored = string(names[:nameLength])
	e.Path = z.names.decode(stored, rec.flags&flagUTF8 != 0, extra)
	e.Modified = modified(date, clock, extra, zoneOf(o))
	e.Method = methodName(rec.method)
	if e.Encrypted {
		if err := setLock(&e, &rec, clock, extra); err != nil {
			return e, rec, stored, err
		}
	}
	wide := newZIP64(extra)
	wide.widen(&whole)
	wide.widen(&packed)
	start := at + localLength + int64(len(names))
	if packed > uint64(size) || whole > 1<<62 {
		return e, rec, stored, errCut
	}
	e.Packed, e.Size = int64(packed), int64(whole)
	rec.limit = start + e.Packed
	setKind(&e, stored, 0, 0)
	if rec.flags&flagDescriptor != 0 && e.Packed == 0 {
		return e, rec, stored, findDescriptor(r, size, start, &e, &rec, room)
	}
	if rec.limit > size {
		return e, rec, stored, errCut
	}
	return e, rec, stored, nil
}

// mostSearched bounds what is decoded to find the ends of entries, in bytes of data.
const mostSearched = 1 << 30

// findDescriptor finds the end of data whose size follows it: by decoding
// it. Only deflate marks its end.
func findDescriptor(r io.ReaderAt, size, start int64, e *archive.Entry, rec *record, room *int64) error {
	if e.Kind == archive.Folder {
		return nil
	}
	if e.Encrypted || e.Method != codec.Deflate && e.Method != codec.Deflate64 {
		return errors.New("its size is not known")
	}
	data := &section{r, start, size - start}
	in := getBuffer(data)
	defer putBuffer(in)
	method, _ := codec.ByName(e.Method)
	d, err := method.Decode(in, codec.Options{})
	if err != nil {
		return err
	}
	defer d.Close()
	e.Size, err = io.CopyN(io.Discard, d, *room+1)
	if *room -= e.Size; *room < 0 {
		*room = 0
		return errors.New("too much would have to be decoded to find its end")
	}
	if err != io.EOF {
		return err
	}
	e.Packed = data.position - start - int64(in.Buffered())
	var record [24]byte
	n, err := r.ReadAt(record[:], start+e.Packed)
	if err != nil && err != io.EOF {
		return fault.Reading("", err)
	}
	signed := le.AppendUint32(nil, descriptorSignature)
	rest, _ := bytes.CutPrefix(record[:n], signed)
	for _, width := range []int{4, 8} {
		if len(rest) < 4+2*width {
			continue
		}
		packed, whole := uint64(le.Uint32(rest[4:])), uint64(le.Uint32(rest[4+width:]))
		if width == 8 {
			packed, whole = le.Uint64(rest[4:]), le.Uint64(rest[12:])
		}
		if packed == uint64(e.Packed) && whole == uint64(e.Size) {
			e.CRC32 = le.Uint32(rest)
			rec.limit = start + e.Packed + int64(n-len(rest)) + int64(4+2*width)
			return nil
		}
	}
	return errors.New("the record behind its data is missing")
}
