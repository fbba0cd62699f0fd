package walk

import (
	"context"
	"io"
	"path"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/storage"
)

// inMemory is the size up to which an archive inside another is read into memory;
// a larger one is spooled to a file.
const inMemory = 16 << 20

// Trust says how much of an archive inside another is checked before that is opened in place,
// where its data is stored unpacked.
type Trust uint8

// The kinds of trust.
const (
	Checked  Trust = iota // all data on disk; at an address, where a part is had for less than the whole, only the entries inside
	Looked                // nothing: the archive is only looked into
	Complete              // the archive is not opened where it lies: all of its data is decoded once
)

// An Inside is an archive inside another that is to be opened.
type Inside struct {
	outer *Archive // held until the archive is open; nil where the outer one comes in order
	index int
	inner *Archive // opened as its data passed by, where the outer one comes in order
	err   error
}

// Inside prepares an entry, which is an archive, of one with a directory to be opened later.
func (a *Archive) Inside(i int) *Inside {
	a.keep()
	return &Inside{outer: a, index: i}
}

// Inside opens the entry, which is an archive, as it passes by. Where that is more than goes
// into memory, it is kept in a file in a folder that dir names; nil: that of the system for
// such files.
func (e *Entry) Inside(ctx context.Context, dir func() (string, error)) *Inside {
	a := e.in
	var inner *Archive
	data, err := a.pile.Add(a.meter(ctx).Reader(e), min(inMemory, a.memory), dir) // all of them wait until the one around has passed by
	if err == nil {
		a.memory -= min(data.Size(), a.memory)
		inner, err = a.OpenInside(e.Entry, data)
	}
	return &Inside{inner: inner, err: err}
}

// Open opens the archive. It may be called once.
func (in *Inside) Open(ctx context.Context, trust Trust, dir func() (string, error)) (*Archive, error) {
	if in.outer == nil {
		a, err := in.inner, in.err
		in.inner = nil
		return a, err
	}
	defer in.Close()
	a, e := in.outer, &in.outer.Entries()[in.index]
	if trust != Complete {
		if from, size, stored := a.stored(in.index); stored {
			if trust == Checked && !a.isFar() {
				if err := a.check(ctx, in.index); err != nil {
					return nil, err
				}
			}
			return a.OpenInside(e, blob.Section(a.data, from, size))
		}
	}
	data, err := a.Data(in.index)
	if err != nil {
		return nil, err
	}
	defer data.Close()
	spooled, err := blob.Spool(a.meter(ctx).Reader(data), inMemory, dir)
	if err != nil {
		return nil, err
	}
	return a.OpenInside(e, spooled)
}

// Close lets go of an archive that was not opened after all.
func (in *Inside) Close() {
	for _, a := range []*Archive{in.outer, in.inner} {
		if a != nil {
			a.Close()
		}
	}
	in.outer, in.inner = nil, nil
}

// meter counts what is decoded of the archive to get at one inside.
func (a *Archive) meter(ctx context.Context) bound.Meter {
	return bound.Meter{Context: ctx, Budget: a.budget}
}

// stored is where the data of an entry lies, if that is stored as it is.
func (a *Archive) stored(i int) (from, size int64, stored bool) {
	_, ranges := a.data.(blob.Foreseer)
	stores, tells := a.directory.(archive.Stores)
	if !ranges || !tells {
		return 0, 0, false
	}
	from, size, err := stores.Stored(i)
	return from, size, err == nil && size != archive.Unknown // what is wrong with it, its data says
}

// check reads the data of an entry.
func (a *Archive) check(ctx context.Context, i int) error {
	data, err := a.Data(i)
	if err != nil {
		return err
	}
	defer data.Close()
	_, err = io.Copy(io.Discard, a.meter(ctx).Reader(data))
	return err
}

// isFar reports whether all of the archive would have to be fetched to be read.
func (a *Archive) isFar() bool {
	for a.outer != nil {
		a = a.outer
	}
	return len(a.Files) > 0 && storage.IsFar(a.Files[0].Info)
}

// OpenInside opens an entry, which is an archive, whose data was kept. That is closed with it.
func (a *Archive) OpenInside(e *archive.Entry, data blob.Blob) (*Archive, error) {
	inner := newArchive(data, Opening{Options: a.rules})
	inner.outer, inner.budget = a, a.budget
	inner.rules.Names, inner.rules.Decoded = a.rules.Names, a.rules.Decoded
	inner.Name = path.Base(e.Path)
	inner.rules.Name, inner.rules.Parts = inner.Name, nil
	a.keep()
	return inner.open()
}
