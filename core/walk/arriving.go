package walk

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/lone"
	"widecrate/core/format/zip"
	"widecrate/core/parts"
	"widecrate/core/remote"
	"widecrate/core/source"
	"widecrate/core/storage"
)

// head is how much of what lies at an address is asked for at first: it says the
// format, and of a small archive it is all.
const head = 48 << 10

// tail is the same of a ZIP archive, whose directory is at its end: where that is looked for first.
const tail = 64<<10 + 22

// openAddress opens what lies at an address: by ranges if the server has them, else
// as it comes.
func openAddress(ctx context.Context, s source.Source, o Opening) (*Archive, error) {
	first := int64(head)
	f, known := format.ByName(s.Name())
	behind := known && f.Name == zip.Format.Name
	switch {
	case behind: // its directory is at its end
		first = -tail
	case known && (f.Open == nil || (o.Whole || o.Ordered) && f.OpenStream != nil):
		first = 0 // such a file is read from front to back in any case
	}
	resource, err := s.Address().Open(ctx, first)
	if err != nil {
		return nil, err
	}
	o.Name = resource.Name
	if !resource.Ranges {
		flow := blob.NewFlow(resource.Reader(ctx))
		if resource.Encoding != "" && gzipInside(flow) {
			flow.Close()
			return nil, remote.PackedOnceMore(resource.Encoding)
		}
		opened, err := openFlow(ctx, flow, o, "its server sends no parts of it")
		if opened != nil {
			opened.total = max(resource.Size, 0)
			opened.Files = []blob.File{blob.RemoteFile(resource)}
		}
		return wholeSet(ctx, s, o, opened, err)
	}
	data := blob.NewRemote(ctx, resource, first)
	if resource.Encoding != "" && gzipInside(data) {
		data.Close()
		return nil, remote.PackedOnceMore(resource.Encoding)
	}
	a := newArchive(data, o)
	a.ordered = o.Whole || o.Ordered
	if behind && o.Whole { // no need to wait for the directory
		blob.Foresee(data, blob.Range{To: data.Size()})
	}
	var opened *Archive
	if behind && f.IdentifyBehind(data, data.Size()) {
		opened, err = a.openAs(f)
	} else {
		opened, err = a.open()
	}
	return wholeSet(ctx, s, o, opened, err)
}

// wholeSet opens a whole split ZIP archive in place of its last part at an address.
func wholeSet(ctx context.Context, s source.Source, o Opening, opened *Archive, err error) (*Archive, error) {
	if split, is := errors.AsType[*zip.SplitError](err); is {
		set, asked := parts.OfSegments(storage.Sites{Context: ctx, Client: s.Address().Client()}, s.Path, split.Segments)
		if set != nil && asked == nil {
			if err = set.Check(); err == nil && o.Fetched != "" {
				set, err = fetchSet(ctx, set, o)
			}
			if err == nil {
				return openSet(set, o)
			}
		}
	}
	return opened, err
}

// gzipInside reports whether the data of a gzip file is one as well: servers also say of
// what is one that they packed it.
func gzipInside(r io.ReaderAt) bool {
	m, _ := codec.ByName(codec.Gzip)
	d, err := m.Decode(bufio.NewReader(io.NewSectionReader(r, 0, head)), codec.Options{})
	if err != nil {
		return false
	}
	defer d.Close()
	var start [16]byte
	n, _ := io.ReadFull(d, start[:])
	return m.Magic(start[:n])
}

// openInput opens what comes from standard input: a file, or a stream.
func openInput(ctx context.Context, in io.Reader, o Opening) (*Archive, error) {
	if kept, is := in.(*Kept); is {
		return newArchive(blob.Of(kept.Blob, kept.Size()), o).open()
	}
	if file, is := in.(*os.File); is {
		info, err := file.Stat()
		if err != nil {
			return nil, fault.Reading("", err)
		}
		if at, err := file.Seek(0, io.SeekCurrent); err == nil && info.Mode().IsRegular() && at <= info.Size() {
			data := io.NewSectionReader(file, at, info.Size()-at)
			return newArchive(blob.Of(data, data.Size()), o).open()
		}
	}
	return openFlow(ctx, blob.NewFlow(io.NopCloser(in)), o, "it came as a stream")
}

// openFlow opens what comes in order: as it comes where its format allows that, else
// it is kept until all is there, and why is remarked.
func openFlow(ctx context.Context, flow *blob.Flow, o Opening, why string) (*Archive, error) {
	a := newArchive(flow, o)
	a.ordered = true
	f, known := format.Start(flow, blob.Endless)
	f = lone.Inside(f, flow, blob.Endless, o.Dictionary)
	if known && f.OpenStream != nil {
		opened, err := a.openAs(f)
		flow.Settle()
		return opened, err
	}
	if format.IsPage(flow) {
		a.Close()
		return nil, format.ErrPage
	}
	rest := flow.Rest()
	flow.Settle()
	kept, err := keep(ctx, rest, o.Limits.Total, o.Kept, o.Dir)
	flow.Close() // read only: nothing can be lost
	if err != nil {
		return nil, err
	}
	a.data, a.ordered = kept, false
	a.remarks = []archive.Remark{{Text: why + ", and its format is read from its end: it was kept until all of it was there"}}
	return a.open()
}

// Kept is standard input that can be opened again and again.
type Kept struct{ blob.Blob }

// Read is none of its uses.
func (*Kept) Read([]byte) (int, error) { return 0, io.EOF }

// KeepInput keeps what comes from standard input until it is closed: so many bytes
// at most; 0: there is no bound.
func KeepInput(ctx context.Context, in io.Reader, most int64) (*Kept, error) {
	data, err := keep(ctx, in, most, nil, nil)
	return &Kept{data}, err
}

// arriving bounds what is kept of something: so many bytes at most; 0: there is no bound.
func arriving(ctx context.Context, most int64, kept *atomic.Int64) bound.Meter {
	came := int64(0)
	return bound.Meter{Context: ctx, Total: kept, Passed: func(n int64) error {
		if came += n; most > 0 && came > most {
			return fault.New(fault.Unsafe, "it is larger than what may be kept of it").Suggest(fault.AllowTotal)
		}
		return nil
	}}
}

// keep keeps what arrives, and adds its bytes to kept, where somebody asks.
func keep(ctx context.Context, in io.Reader, most int64, kept *atomic.Int64, dir func() (string, error)) (blob.Blob, error) {
	meter := arriving(ctx, most, kept)
	data, err := blob.Spool(meter.Reader(in), inMemory, dir)
	return data, fault.Reading("", err)
}
