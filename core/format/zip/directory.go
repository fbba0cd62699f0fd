package zip

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/crypt"
	"widecrate/core/fault"
)

// record is what the reader keeps of an entry beside the archive.Entry.
type record struct {
	limit  int64 // where the next local header or the directory starts
	flags  uint16
	method uint16 // as stored; of a locked entry it may stand for another
	lock   lock
	slash  bool // the stored name is the path with a slash behind it
}

// keepName keeps the stored name of an entry where it does not follow from the path:
// nearly always it does, and there may be millions.
func (z *Reader) keepName(i int, e *archive.Entry, rec *record, stored string) {
	switch {
	case stored == e.Path:
	case len(stored) == len(e.Path)+1 && strings.HasPrefix(stored, e.Path) && stored[len(e.Path)] == '/':
		rec.slash = true
	default:
		if z.stored == nil {
			z.stored = map[int]string{}
		}
		z.stored[i] = stored
	}
}

// storedName is the name of an entry as it is stored, undecoded.
func (z *Reader) storedName(i int) string {
	if name, other := z.stored[i]; other {
		return name
	}
	if z.records[i].slash {
		return z.entries[i].Path + "/"
	}
	return z.entries[i].Path
}

// eachCentral goes through the central directory (4.3.12), header by header,
// with where each starts. A header is valid until the next.
func (z *Reader) eachCentral(r io.ReaderAt, e end, visit func(at int64, header []byte) error) error {
	blob.Foresee(z.r, blob.Range{From: e.start, To: e.start + e.size})
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
func (z *Reader) readEntries(r io.ReaderAt, e end, o archive.Options) error {
	z.entries, z.records = make([]archive.Entry, 0, e.entries), make([]record, 0, e.entries)
	err := z.eachCentral(r, e, func(at int64, header []byte) error {
		entry, rec, stored, err := z.readCentral(header, e, o)
		if err != nil {
			return fault.New(fault.Damaged, "directory header %d at offset %d: %w", len(z.entries)+1, at, err)
		}
		if err := o.Names.Take(entry.Path); err != nil {
			return err
		}
		z.keepName(len(z.entries), &entry, &rec, stored)
		z.entries, z.records = append(z.entries, entry), append(z.records, rec)
		return nil
	})
	if err != nil {
		return err
	}
	count := uint64(len(z.entries))
	if e.narrow {
		count &= max16
	}
	if count != e.entries {
		return fault.New(fault.Damaged, "its end record promises %d entries, its directory holds %d", e.entries, len(z.entries))
	}
	return z.parts.blame(z.setLimits(e.start))
}

// readCentral decodes one central header. The name is the stored one, undecoded.
func (z *Reader) readCentral(header []byte, end end, o archive.Options) (archive.Entry, record, string, error) {
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
	stored := string(f.take(nameLength))
	extra := f.take(extraLength)
	comment := f.take(commentLength)

	e.Path = z.names.unslash(z.names.decode(stored, rec.flags&flagUTF8 != 0, extra), host)
	e.Modified = modified(date, clock, extra, zoneOf(o))
	wide := newZIP64(extra)
	wide.widen(&size)
	wide.widen(&packed)
	wide.widen(&offset)
	if disk == max16 {
		disk = wide.f.uint32()
	}
	if wide.f.short {
		return e, rec, stored, errors.New("its ZIP64 field is missing or too short")
	}
	const largest = archive.LargestSize
	if size > largest || packed > largest || offset > largest {
		return e, rec, stored, errors.New("a size or offset is beyond any file")
	}
	e.Size, e.Packed, e.Offset = int64(size), int64(packed), int64(offset)+end.base
	if end.split {
		e.Offset = z.parts.position(disk, offset)
	} else if disk != 0 {
		return e, rec, stored, errors.New("it lies in another part of a split archive")
	}
	if commentLength > 0 && len(z.comments) < mostComments {
		z.comments = append(z.comments, "comment of "+e.Path+": "+z.names.decode(string(comment), rec.flags&flagUTF8 != 0, nil))
	}
	e.Also = also(extra)
	if commentLength > 0 {
		e.Also |= archive.Comment
	}
	e.Method = methodName(rec.method)
	if e.Encrypted {
		if err := setLock(&e, &rec, clock, extra); err != nil {
			return e, rec, stored, err
		}
	}
	setKind(&e, e.Path, host, attributes)
	if e.Kind != archive.File && e.Kind != archive.Symlink && e.Size > 0 && e.Packed > 0 {
		return e, rec, stored, fmt.Errorf("its kind is %s, and it has data", e.Kind)
	}
	return e, rec, stored, nil
}

// setLock finds out how an entry is locked: the traditional way (6.1), where a
// byte of the checksum or of the time shows wrong passwords, or with AES, where
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
		e.HasCRC32, e.Summed = le.Uint16(data) == 1, true // the code of the encryption counts as well
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
		e.Mode, e.SetID = permissions(mode), mode&archive.ModeSetID != 0
		if e.Kind = archive.KindOfMode(mode); e.Kind == archive.Other {
			e.Kind = archive.File // no archive has sockets, and no checksum covers these bits
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
func (z *Reader) setLimits(directory int64) error {
	order := func(n int) int { return n }
	if !slices.IsSortedFunc(z.entries, func(a, b archive.Entry) int { return cmp.Compare(a.Offset, b.Offset) }) {
		sorted := make([]int32, len(z.entries))
		for i := range sorted {
			sorted[i] = int32(i)
		}
		slices.SortFunc(sorted, func(a, b int32) int {
			return cmp.Or(cmp.Compare(z.entries[a].Offset, z.entries[b].Offset), cmp.Compare(a, b))
		})
		order = func(n int) int { return int(sorted[n]) }
	}
	limit := directory
	for n := len(z.entries) - 1; n >= 0; n-- {
		i := order(n)
		e := &z.entries[i]
		z.records[i].limit = limit
		room := limit - e.Offset - localLength - int64(len(z.storedName(i)))
		switch {
		case e.Offset >= 0 && room >= 0 && e.Packed <= room:
		case n+1 == len(z.entries):
			return fault.New(fault.Damaged, "entry %s at offset %d reaches into the directory", quote(e.Path), e.Offset)
		default:
			return fault.New(fault.Unsafe, "entry %s at offset %d overlaps entry %s", quote(e.Path), e.Offset,
				quote(z.entries[order(n+1)].Path)).Advise("no honest archive is built like this; do not unpack it")
		}
		limit = e.Offset
	}
	return nil
}
