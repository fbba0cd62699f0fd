package zip

import (
	"bytes"
	"context"
	"unicode/utf8"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Packed is an entry as it lies in an archive.
type Packed struct {
	z       *Reader
	index   int
	central []byte
}

// Index is the number of the entry among those of its archive.
func (p Packed) Index() int { return p.index }

// EachPacked goes through the entries in the order of the directory. Each is
// valid until the next.
func (z *Reader) EachPacked(visit func(Packed) error) error {
	c := newCached(z.r)
	defer c.release()
	i := 0
	return z.eachCentral(c, z.end, func(_ int64, central []byte) error {
		p := Packed{z, i, central}
		i++
		return visit(p)
	})
}

// AddPacked writes an entry as it is packed in another archive, under a path of
// its own unless that is empty. What its records say stays, but for where they
// are. Errors of the other archive are of its kinds; see Reader.
func (w *Writer) AddPacked(ctx context.Context, p Packed, path string) error {
	e := &p.z.entries[p.index]
	if path != "" && e.Kind == archive.Folder {
		path += "/"
	}
	if w.copying == nil {
		w.copying = make([]byte, 2*piece)
	}
	at, err := w.copyData(ctx, p.z.data(p.index), path)
	if err != nil {
		return fault.At(e.Path, err)
	}
	header, err := moved(p.central, at)
	if err == nil && path != "" {
		header = renamed(header, centralLength, 8, 28, path)
	}
	w.directory.Write(header)
	w.entries++
	return fault.At(e.Path, err)
}

// Copy writes all entries of another archive as they are packed there, and its
// comment. It makes one archive of the segments of a split one, and the other
// way round. Bytes that belong to no record are left behind.
func (w *Writer) Copy(ctx context.Context, z *Reader) error {
	w.CopyComment(z)
	return z.EachPacked(func(p Packed) error { return w.AddPacked(ctx, p, "") })
}

// Commented reports whether the archive as a whole has a comment.
func (z *Reader) Commented() bool { return len(z.end.comment) > 0 }

// CopyComment gives the archive the comment of another.
func (w *Writer) CopyComment(z *Reader) { w.comment = z.end.comment }

// renamed is a header with another name: length is that of its fixed part, flags
// and lengths where these fields are. A field with the old name is left out
// (4.6.9).
func renamed(header []byte, length, flags, lengths int, name string) []byte {
	nameLength, extraLength := int(le.Uint16(header[lengths:])), int(le.Uint16(header[lengths+2:]))
	rest := header[length+nameLength:]
	extra, behind := rest[:extraLength], rest[extraLength:]
	b := bytes.Clone(header[:length])
	flag := le.Uint16(b[flags:]) &^ flagUTF8
	if !ascii(name) && utf8.ValidString(name) {
		flag |= flagUTF8
	}
	var fields []byte
	eachExtra(extra, func(id uint16, data []byte) {
		if id != extraUnicodePath {
			fields = le.AppendUint16(fields, id)
			fields = le.AppendUint16(fields, uint16(len(data)))
			fields = append(fields, data...)
		}
	})
	le.PutUint16(b[flags:], flag)
	le.PutUint16(b[lengths:], uint16(len(name)))
	le.PutUint16(b[lengths+2:], uint16(len(fields)))
	return append(append(append(b, name...), fields...), behind...)
}

// copyData copies local header, data and descriptor of one entry, and says
// where they went.
func (w *Writer) copyData(ctx context.Context, d *data, path string) (place, error) {
	z, e, rec, block := d.z, d.entry, d.rec, w.copying
	n := min(int64(len(block)), rec.limit-e.Offset)
	if _, err := z.r.ReadAt(block[:n], e.Offset); err != nil {
		return place{}, fault.Reading("", err)
	}
	header, err := d.checkLocal(block[:n])
	if err != nil {
		return place{}, fault.New(fault.Damaged, "local header at offset %d: %w", e.Offset, err)
	}
	d.position = e.Offset + int64(header)
	if d.position+e.Packed > rec.limit {
		return place{}, fault.New(fault.Unsafe, "its data at offset %d overlaps what follows", d.position)
	}
	local := block[:min(int64(header), n)]
	if len(local) < header { // a very long name and extra field
		local = make([]byte, header)
		if _, err := z.r.ReadAt(local, e.Offset); err != nil {
			return place{}, fault.Reading("", err)
		}
	}
	if path != "" {
		local = renamed(local, localLength, 6, 26, path)
	}
	at, err := w.record(local)
	if err != nil {
		return at, err
	}
	if whole := int64(header) + e.Packed; whole <= n {
		err = w.write(block[header:whole])
	} else {
		err = w.copyPacked(ctx, &section{z.r, d.position, e.Packed}, block)
	}
	if err != nil || d.flags&flagDescriptor == 0 {
		return at, err
	}
	descriptor, err := d.descriptor()
	if err != nil {
		return at, err
	}
	_, err = w.record(descriptor)
	return at, err
}

func (w *Writer) copyPacked(ctx context.Context, packed *section, block []byte) error {
	for packed.left > 0 {
		n, err := packed.Read(block)
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if err := w.write(block[:n]); err != nil {
			return err
		}
	}
	return nil
}

// moved is a central header (4.3.12) for an entry that lies elsewhere.
func moved(central []byte, at place) ([]byte, error) {
	nameLength, extraLength := int(le.Uint16(central[28:])), int(le.Uint16(central[30:]))
	name, rest := central[centralLength:centralLength+nameLength], central[centralLength+nameLength:]
	extra, comment := rest[:extraLength], rest[extraLength:]

	b := bytes.Clone(central[:centralLength])
	var wide []int64
	wide64 := newZIP64(extra)
	for _, field := range []int{24, 20} { // size and packed size
		if le.Uint32(b[field:]) == max32 {
			wide = append(wide, int64(wide64.f.uint64()))
		}
	}
	le.PutUint32(b[42:], uint32(min(at.offset, max32)))
	if at.offset >= max32 {
		wide = append(wide, at.offset)
	}
	var fields []byte
	if wide != nil {
		fields = appendZIP64(fields, wide...)
		le.PutUint16(b[6:], max(le.Uint16(b[6:]), versionZIP64))
	}
	eachExtra(extra, func(id uint16, data []byte) {
		if id != extraZIP64 {
			fields = le.AppendUint16(fields, id)
			fields = le.AppendUint16(fields, uint16(len(data)))
			fields = append(fields, data...)
		}
	})
	if len(fields) > max16 {
		return nil, fault.New(fault.Usage, "its extra fields leave no room for the ZIP64 field that its new place needs")
	}
	le.PutUint16(b[30:], uint16(len(fields)))
	le.PutUint16(b[34:], at.disk)
	return append(append(append(b, name...), fields...), comment...), nil
}
