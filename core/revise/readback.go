package revise

import (
	"context"
	"hash"
	"hash/crc32"
	"io"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/create"
)

// made is what was written into a new archive.
type made struct {
	entries []archive.Entry
	sums    []hash.Hash32 // of the data of files; nil: the entry has it
}

// add takes note of an entry, whose data is to be read through what is returned.
func (m *made) add(e archive.Entry, data io.Reader) io.Reader {
	if m == nil {
		return data
	}
	m.entries = append(m.entries, e)
	if e.Kind != archive.File || data == nil {
		m.sums = append(m.sums, nil)
		return data
	}
	sum := crc32.NewIEEE()
	m.sums = append(m.sums, sum)
	return io.TeeReader(data, sum)
}

// madePacked takes note of an entry of a ZIP archive that is copied as it is packed.
func (t *transfer) madePacked(i int, e *archive.Entry, path string) (err error) {
	if t.made == nil {
		return nil
	}
	is := *e
	if is.Path = path; is.Kind == archive.Symlink {
		is.Link, err = t.from.Link(i)
	}
	t.made.add(is, nil)
	return err
}

func (m *made) expected(i int) create.Expected {
	e := &m.entries[i]
	x := create.Expected{Path: e.Path, Kind: e.Kind, Link: e.Link, Sum: e.CRC32, Locked: m.sums[i] == nil && e.Encrypted}
	if sum := m.sums[i]; sum != nil {
		x.Sum = sum.Sum32()
	}
	return x
}

// readBack compares a finished archive with what was written, more included, and finds the
// SHA-256 of the files where that is asked for.
func (m *made) readBack(ctx context.Context, open func() (blob.Blob, archive.Parts, error), more []create.Expected, o *create.Options, hashed bool) (sums [][]byte, err error) {
	var take func(i int, sum []byte)
	if hashed {
		sums = make([][]byte, len(m.entries)+len(more))
		take = func(i int, sum []byte) { sums[i] = sum }
	}
	_, err = create.ReadBack(ctx, open, o, len(m.entries)+len(more), func(i int) create.Expected {
		if i < len(m.entries) {
			return m.expected(i)
		}
		return more[i-len(m.entries)]
	}, take)
	return sums, err
}
