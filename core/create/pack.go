package create

import (
	"bytes"
	"context"
	"crypto/sha256"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"sync"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/report"
)

// window is how many entries are worked on ahead of the one that is written. Of
// each there is at most archive.PrepareLimit in memory.
const window = 48

// slot is an entry on its way: small files are read, and packed where the format
// can do that, by workers; the others when it is their turn.
type slot struct {
	item   *item
	ready  chan struct{} // nil: nothing is done beforehand
	data   []byte
	packed bool // data is as AddPrepared wants it
	entry  archive.Entry
	err    error
}

// pack writes all entries in their order.
func (c *collector) pack(w archive.Writer, r *report.Created) error {
	ctx, cancel := context.WithCancel(c.ctx)
	defer cancel()
	prepares, _ := w.(archive.Preparer)
	slots, jobs := make(chan *slot, window), make(chan *slot, window)
	var workers sync.WaitGroup
	defer workers.Wait()
	workers.Go(func() {
		defer close(slots)
		defer close(jobs)
		for i := range c.found {
			s := &slot{item: &c.found[i]}
			if s.item.small() {
				s.ready = make(chan struct{})
			}
			select {
			case slots <- s:
			case <-ctx.Done():
				return
			}
			if s.ready != nil {
				jobs <- s // its room is that of slots
			}
		}
	})
	for range c.Workers {
		workers.Go(func() {
			for s := range jobs {
				if ctx.Err() == nil {
					s.err = fault.Guard(func() error { s.prepare(c, prepares); return s.err })
				}
				close(s.ready)
			}
		})
	}
	for s := range slots {
		if s.ready != nil {
			<-s.ready
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		entry, err := s.write(c, w, prepares)
		if err != nil {
			cancel()
			for range slots { // let the others end
			}
			return err
		}
		r.Add(entry)
		if holds := c.Format.HoldsTime; holds != nil && !holds(entry.Modified) {
			r.Clamped++
		}
		if c.Hash {
			r.From = append(r.From, c.origin(s.item))
		}
	}
	return ctx.Err()
}

// origin is what an item was packed from. A hard link has the sum of the file's first name, which is
// packed before.
func (c *collector) origin(it *item) *report.Packed {
	switch it.entry.Kind {
	case archive.File:
		if c.sums == nil {
			c.sums = map[string][]byte{}
		}
		c.sums[it.entry.Path] = it.sha256
		return &report.Packed{Path: it.path, SHA256: it.sha256}
	case archive.Hardlink:
		return &report.Packed{Path: it.path, SHA256: c.sums[it.entry.Link]}
	}
	return &report.Packed{Path: it.path}
}

// small reports whether an item is read in one go, ahead of its turn.
func (it *item) small() bool {
	return it.text != nil || it.entry.Kind == archive.File && it.stream == nil && it.entry.Size < archive.PrepareLimit
}

// prepare reads a small file, and packs it.
func (s *slot) prepare(c *collector, w archive.Preparer) {
	s.entry = s.item.entry
	if s.data, s.err = s.item.read(c); s.err != nil {
		return
	}
	s.item.sum = crc32.ChecksumIEEE(s.data)
	if c.Hash {
		sum := sha256.Sum256(s.data)
		s.item.sha256 = sum[:]
	}
	if w != nil {
		s.entry, s.data, s.err = w.Prepare(s.entry, s.data)
		s.packed = true
	}
}

// toRead is how many bytes of files there are to read, 0 where a stream does not
// tell how long it is.
func (c *collector) toRead() (bytes int64) {
	for i := range c.found {
		switch it := &c.found[i]; {
		case it.stream != nil:
			return 0
		case it.path != "" && it.entry.Kind == archive.File:
			bytes += it.entry.Size
		}
	}
	return bytes
}

// read returns the data of a small file.
func (it *item) read(c *collector) ([]byte, error) {
	if it.text != nil {
		return it.text, nil
	}
	f, _, err := folder.OpenRegular(it.path)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	defer f.Close()
	data := make([]byte, it.entry.Size+1) // one more than there should be
	n, err := io.ReadFull(f, data)
	c.Read.Add(int64(n))
	if err == nil || int64(n) < it.entry.Size {
		if err == nil || err == io.EOF || err == io.ErrUnexpectedEOF {
			return nil, it.changed()
		}
	}
	if err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, fault.Reading("", err)
	}
	return data[:n], it.unchanged(f)
}

// unchanged makes sure that a file is still as it was when it was found.
func (it *item) unchanged(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return fault.Reading("", err)
	}
	if !(blob.File{Path: it.path, Info: it.info}).Is(info) {
		return it.changed()
	}
	return nil
}

func (it *item) changed() error {
	return fault.New(fault.Unreadable, "it changed while it was read").Advise("pack it when nothing writes to it any more, or leave it out")
}

// write adds the entry to the archive.
func (s *slot) write(c *collector, w archive.Writer, prepares archive.Preparer) (archive.Entry, error) {
	it := s.item
	if s.err == nil {
		switch {
		case s.packed:
			s.err = prepares.AddPrepared(s.entry, s.data)
		case s.ready != nil:
			s.entry, s.err = w.Add(it.entry, bytes.NewReader(s.data))
		case it.entry.Kind != archive.File:
			s.entry, s.err = w.Add(it.entry, nil)
		default:
			s.entry, s.err = it.stored(c, w)
		}
	}
	if fault.Of(s.err) == fault.Unwritable {
		return s.entry, s.err // that is not the source's fault
	}
	return s.entry, fault.At(it.from(), s.err)
}

// stored adds a large file, or a stream, by way of a file where its size has to be known first.
func (it *item) stored(c *collector, w archive.Writer) (entry archive.Entry, err error) {
	from := it.stream
	if from == nil {
		f, _, failed := folder.OpenRegular(it.path)
		if failed != nil {
			return it.entry, fault.Reading("", failed)
		}
		defer f.Close()
		defer func() {
			if err == nil {
				err = it.unchanged(f)
			}
		}()
		from = f
	}
	sum, long := crc32.NewIEEE(), sha256.New()
	meter := bound.Meter{Context: c.ctx, Total: c.Read, Sums: []hash.Hash{sum}}
	if c.Hash {
		meter.Sums = append(meter.Sums, long)
	}
	in := meter.Reader(input{from})
	if it.stream != nil && c.Format.NeedsSize {
		kept, err := blob.Spool(in, archive.PrepareLimit, nil)
		if err != nil {
			return it.entry, err
		}
		defer kept.Close()
		it.entry.Size = kept.Size()
		in = io.NewSectionReader(kept, 0, kept.Size())
	}
	entry, err = w.Add(it.entry, in)
	if it.sum = sum.Sum32(); c.Hash {
		it.sha256 = long.Sum(nil)
	}
	return entry, err
}

// input is a source; what is wrong with it is of kind fault.Unreadable.
type input struct{ io.Reader }

func (in input) Read(p []byte) (int, error) {
	n, err := in.Reader.Read(p)
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}
