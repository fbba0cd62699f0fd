package extract

import (
	"hash/crc32"
	"io"
	"os"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// taker gets the data of an entry that is kept, as it passes by.
type taker func(i int, data io.Reader) error

// taker stages what passes by; in a dry run it only sums it up.
func (u *unit) taker(e *engine) taker {
	if e.DryRun {
		return func(i int, data io.Reader) error { return u.sumUp(e, i, data) }
	}
	return func(i int, data io.Reader) error {
		if u.stage == nil {
			root, err := e.useRoot(u)
			if err != nil {
				return err
			}
			u.stage = root.Gather()
		}
		entry := &u.entries[i]
		err := u.stage.Stage(i, &stage.Item{Entry: *entry, Name: u.called(i)}, func(w io.Writer) error {
			size, err := u.pass(e, i, data, w)
			entry.Size = size
			return err
		})
		e.Progress.Entries.Add(1)
		return err
	}
}

// gather goes through an archive that comes in order. What is kept, and the
// archives inside it, are dealt with as they pass by.
func (u *unit) gather(e *engine, take taker) error {
	s := u.archive.Stream
	memory := int64(4 * source.InMemory) // for the archives inside, all together
	for {
		entry, err := s.Next()
		if err == io.EOF {
			return nil
		}
		if e.Reading.Salvage && fault.Of(err) == fault.Damaged && len(u.entries) > 0 {
			e.lose(u, "", err)
			return nil
		}
		if err != nil {
			return err
		}
		if err := u.budget.Count(1); err != nil {
			return err
		}
		i := len(u.entries)
		u.entries = append(u.entries, entry)
		kept, inner := u.consider(e, i)
		switch {
		case inner != nil:
			inner.root, inner.target.Root = u.root, u.target.Root
			inner.opened, inner.openErr = u.archive.Inner(&entry, u.budget.Reader(e.ctx, s), min(source.InMemory, memory),
				func() (*os.File, error) { return inner.spool(e) })
			if inner.opened != nil {
				memory -= min(inner.opened.Size, memory)
			}
		case kept && entry.Kind == archive.File:
			err := take(i, s)
			if e.Reading.Salvage && fault.Of(err) == fault.Damaged {
				// A stream does not go on behind a break.
				u.kept = u.kept[:len(u.kept)-1]
				e.lose(u, u.called(i), err)
				if u.stage != nil {
					return u.stage.LoseNumber(i)
				}
				return nil
			}
			if err != nil {
				return fault.At(u.called(i), err)
			}
		}
	}
}

// sum fills in the checksums that a dry run compares files by, where the
// archive has none.
func (u *unit) sum(e *engine, items []stage.Item) error {
	for k := range items {
		i := u.dataOf(u.firstOf(k))
		if u.archive.Reader != nil && items[k].Kind == archive.File && !u.entries[i].HasCRC32 {
			data, err := u.archive.Open(i)
			if err == nil {
				err = u.sumUp(e, i, data)
				data.Close()
			}
			if err != nil {
				return fault.At(u.called(i), err)
			}
		}
		items[k].CRC32, items[k].HasCRC32, items[k].Size = u.entries[i].CRC32, u.entries[i].HasCRC32, u.entries[i].Size
	}
	return nil
}

func (u *unit) sumUp(e *engine, i int, data io.Reader) error {
	sum := crc32.NewIEEE()
	size, err := u.pass(e, i, data, sum)
	entry := &u.entries[i]
	entry.Size, entry.CRC32, entry.HasCRC32 = size, sum.Sum32(), true
	return err
}
