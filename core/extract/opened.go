package extract

import (
	"crypto/sha256"
	"hash"
	"hash/crc32"
	"io"
	"sync"

	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/walk"
)

// opened is an archive that is open, with its entries as far as they are known. It is what a
// plan and an output know of the archive.
type opened struct {
	run     *run
	archive *walk.Archive
	close   func() // of the archive; only the first call counts
	source  bool   // the archive does not lie inside another
	budget  *bound.Budget
	outcome *report.Unpacked
	entries []archive.Entry
	read    int64 // bytes of one that comes in order that are in the progress

	mu    sync.Mutex
	found map[int]bool   // entries of which a dry run found the checksum
	sums  map[int][]byte // SHA-256 of what was written, by entry
}

// Called is the name of an entry for people: in a series, with that of its member.
func (o *opened) Called(i int) string {
	if member := o.archive.Member(i); member != "" {
		return member + " › " + o.entries[i].Path
	}
	return o.entries[i].Path
}

// Link returns where an entry, a symbolic link, leads to.
func (o *opened) Link(i int) (string, error) {
	if !o.AnyOrder() {
		return o.entries[i].Link, nil
	}
	return o.archive.Link(i)
}

// AnyOrder reports whether data can be read at any time.
func (o *opened) AnyOrder() bool { return o.archive.AnyOrder() }

// salvages reports whether an error costs no more than the data that is damaged.
func (o *opened) salvages(err error) bool {
	return o.run.Reading.Salvage && fault.Of(err) == fault.Damaged
}

// lose takes note of what could not be had of a damaged archive.
func (o *opened) lose(entry string, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if entry != "" {
		err = fault.At(entry, err)
	}
	o.outcome.Lost = append(o.outcome.Lost, report.Lost{Entry: entry, Err: fault.At(o.outcome.Archive, err)})
}

// aheadPiece is so much of an entry as is decoded ahead at a time.
const aheadPiece = 256 << 10

// copy writes the data of an entry that can be read at any time.
func (o *opened) copy(i int, w io.Writer) error {
	data, err := o.archive.Data(i)
	if err != nil {
		return err
	}
	defer data.Close()
	from := io.Reader(data)
	if o.entries[i].Size >= schedule.Long && o.entries[i].Holes == 0 {
		defer o.run.long.Add(-1)
		if int(o.run.long.Add(1)) < o.run.Workers {
			// Not all workers have a long one: it is decoded on a goroutine of
			// its own, while what came before is written.
			ahead, err := readahead.NewReaderSize(fault.Guarded(data), 4, aheadPiece)
			if err != nil {
				return err
			}
			defer ahead.Close()
			from = ahead
		}
	}
	_, err = o.pour(i, from, w)
	return err
}

// pour writes data of an entry until its end, or until the run is cancelled,
// within the budget.
func (o *opened) pour(i int, data io.Reader, w io.Writer) (int64, error) {
	// What the entry promises counts before its first byte.
	if err := o.budget.Check(o.entries[i].Size); err != nil && !o.archive.Arriving() {
		return 0, err
	}
	progress, share := o.run.Progress, o.share(i)
	meter := bound.Meter{Context: o.run.ctx, Budget: o.budget, Total: &progress.Bytes}
	meter.Passed = func(n int64) error {
		progress.Read.Add(int64(share*float64(n)) + o.advance())
		return nil
	}
	if o.run.Hash {
		meter.Sums = []hash.Hash{sha256.New()}
	}
	n, err := archive.Copy(meter.Writer(w), data)
	if err == nil && o.run.Hash {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.sums == nil {
			o.sums = map[int][]byte{}
		}
		o.sums[i] = meter.Sums[0].Sum(nil)
	}
	return n, err
}

// advance is how many bytes of a source that comes in order were read since the last
// call.
func (o *opened) advance() int64 {
	if !o.source || o.AnyOrder() {
		return 0
	}
	was := o.read
	o.read = o.archive.Position()
	return o.read - was
}

// share is how many bytes of the source each byte of an entry stands for; the
// entries of an archive inside another count with that.
func (o *opened) share(i int) float64 {
	entry := &o.entries[i]
	if !o.source || !o.AnyOrder() || entry.Size <= 0 || entry.Packed <= 0 {
		return 0
	}
	return float64(entry.Packed) / float64(entry.Size)
}

// sum finds the size and the checksum of an entry, for what has none.
func (o *opened) sum(i int, data io.Reader) error {
	sum := crc32.NewIEEE()
	size, err := o.pour(i, data, sum)
	entry := &o.entries[i]
	if !entry.HasCRC32 {
		if o.found == nil {
			o.found = map[int]bool{}
		}
		o.found[i] = true
	}
	entry.Size, entry.CRC32, entry.HasCRC32 = size, sum.Sum32(), true
	return err
}
