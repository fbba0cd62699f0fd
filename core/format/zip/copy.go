package zip

import (
	"bytes"
	"context"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Copy writes the entries of another archive as they are packed there, in the
// order of its directory, and its comment. What the records say stays, but for
// where they are. It makes one archive of the segments of a split one, and the
// other way round. Bytes that belong to no record are left behind.
func (w *Writer) Copy(ctx context.Context, z *Reader) error {
	w.comment = z.end.comment
	c := newCached(z.r)
	defer c.release()
	block := make([]byte, 2*piece)
	i := 0
	return z.eachCentral(c, z.end, func(_ int64, central []byte) error {
		e, rec := &z.entries[i], &z.records[i]
		i++
		at, err := w.copyData(ctx, z, e, rec, block)
		if err != nil {
			return fault.At(e.Path, err)
		}
		header, err := moved(central, at)
		w.directory.Write(header)
		w.entries++
		return fault.At(e.Path, err)
	})
}

// copyData copies local header, data and descriptor of one entry, and tells
// where they went.
func (w *Writer) copyData(ctx context.Context, z *Reader, e *archive.Entry, rec *record, block []byte) (place, error) {
	n := min(int64(len(block)), rec.limit-rec.offset)
	if _, err := z.r.ReadAt(block[:n], rec.offset); err != nil {
		return place{}, fault.Reading("", err)
	}
	d := &data{z: z, entry: e, rec: rec}
	header, err := d.checkLocal(block[:n])
	if err != nil {
		return place{}, fault.New(fault.Damaged, "local header at offset %d: %w", rec.offset, err)
	}
	d.position = rec.offset + int64(header)
	if d.position+e.Packed > rec.limit {
		return place{}, fault.New(fault.Unsafe, "its data at offset %d overlaps what follows", d.position)
	}
	local := block[:min(int64(header), n)]
	if len(local) < header { // a very long name and extra field
		local = make([]byte, header)
		if _, err := z.r.ReadAt(local, rec.offset); err != nil {
			return place{}, fault.Reading("", err)
		}
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

// Front is how many bytes stand in front of the archive.
func (z *Reader) Front() int64 { return z.end.base }
