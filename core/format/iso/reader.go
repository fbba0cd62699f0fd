package iso

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// Reader reads an image at any entry: its folders were gone through once.
type Reader struct {
	r       io.ReaderAt
	size    int64
	entries []archive.Entry
	data    []blob.Range         // of each entry
	more    map[int][]blob.Range // of those that lie in several extents
	strange map[int]string       // why the data of an entry is not read
	remarks []archive.Remark

	rockRidge bool
}

// RockRidge reports whether modes and links are known.
func (z *Reader) RockRidge() bool { return z.rockRidge }

// Open goes through the folders of the image of size bytes in r. Folders that are
// wrong or cut off are of kind fault.Damaged; those that lead back to themselves,
// and files that overlap, of kind fault.Unsafe. That the data of a file is missing
// shows when it is opened.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Reader, error) {
	z := &Reader{r: r, size: size}
	if c := cooked(r, size); c != nil {
		z.r, z.size = c, c.size
		z.remarks = append(z.remarks, archive.Remark{Text: "it is an image of raw sectors"})
	}
	session, d, err := lastSession(z.r, z.size)
	if err != nil {
		return nil, err
	}
	if session > 0 {
		z.remarks = append(z.remarks, archive.Remark{Text: "it has several sessions, of which the last counts"})
	}
	data := z.r
	z.r = blob.Cached(data)
	w := &walker{z: z, volume: d.primary, seen: map[int64]bool{}, names: o.Names}
	if w.rockRidge, w.skip, err = w.sharing(); err != nil {
		return nil, err
	}
	if !w.rockRidge && d.joliet != nil {
		w.volume = d.joliet
	}
	if err := w.walk(); err != nil {
		return nil, err
	}
	z.boots(d.catalog, d.primary.block)
	z.r, z.rockRidge = data, w.rockRidge
	return z, z.checkOverlap()
}

// Entries lists the image, one folder after the other.
func (z *Reader) Entries() []archive.Entry { return z.entries }

// Remarks say what else there is to know of the image.
func (z *Reader) Remarks() []archive.Remark { return z.remarks }

// Close does nothing: a Reader holds no more than memory.
func (z *Reader) Close() error { return nil }

// Extent is that of archive.Extents.
func (z *Reader) Extent(i int) (from, to int64) { return z.data[i].From, z.data[i].To }

// Stored is that of archive.Stores.
func (z *Reader) Stored(i int) (from, size int64, err error) {
	_, raw := z.r.(*raw)
	if raw || z.more[i] != nil || z.strange[i] != "" || z.data[i].To > z.size {
		return 0, archive.Unknown, nil
	}
	return z.data[i].From, z.entries[i].Size, nil
}

// Open returns the data of entry i. An image has no checksums of it: only its length
// is checked.
func (z *Reader) Open(i int) (io.ReadCloser, error) {
	if why := z.strange[i]; why != "" {
		return nil, fault.New(fault.Damaged, "%s, which is %w", why, archive.ErrUnsupported).Advise("take it from another medium; fetching the image again would not help")
	}
	ranges := z.more[i]
	if ranges == nil {
		ranges = z.data[i : i+1]
	}
	for _, e := range ranges {
		if e.To > z.size {
			return nil, fault.New(fault.Damaged, "its data from offset %d to %d lies beyond the end of the image, which has %d bytes", e.From, e.To, z.size).
				Advise("the image is cut off: get it again")
		}
	}
	return blob.Extents(z.r, ranges...), nil
}

// checkOverlap refuses files that overlap in part.
func (z *Reader) checkOverlap() error {
	return archive.CheckOverlap(z.entries, func(yield func(int, blob.Range) bool) {
		for i := range z.entries {
			ranges := z.more[i]
			if ranges == nil {
				ranges = z.data[i : i+1]
			}
			for _, r := range ranges {
				if z.entries[i].Kind == archive.File && !yield(i, r) {
					return
				}
			}
		}
	})
}
