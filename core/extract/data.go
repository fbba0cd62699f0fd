package extract

import (
	"crypto/sha256"
	"hash"
	"hash/crc32"
	"io"

	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/fault"
	"widecrate/core/schedule"
)

// aheadPiece is so much of an entry as is decoded ahead at a time.
const aheadPiece = 256 << 10

// copy writes the data of an entry that can be read at any time.
func (u *unit) copy(i int, w io.Writer) error {
	data, err := u.archive.Data(i)
	if err != nil {
		return err
	}
	defer data.Close()
	from := io.Reader(data)
	if u.entries[i].Size >= schedule.Long && u.entries[i].Holes == 0 {
		defer u.run.long.Add(-1)
		if int(u.run.long.Add(1)) < u.run.Workers {
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
	_, err = u.pour(i, from, w)
	return err
}

// pour writes data of an entry until its end, or until the run is cancelled,
// within the budget.
func (u *unit) pour(i int, data io.Reader, w io.Writer) (int64, error) {
	// What the entry promises counts before its first byte.
	if err := u.budget.Check(u.entries[i].Size); err != nil && !u.archive.Arriving() {
		return 0, err
	}
	progress, share := u.run.Progress, u.share(i)
	meter := bound.Meter{Context: u.run.ctx, Budget: u.budget, Total: &progress.Bytes}
	meter.Passed = func(n int64) error {
		progress.Read.Add(int64(share*float64(n)) + u.advance())
		return nil
	}
	if u.run.Hash {
		meter.Sums = []hash.Hash{sha256.New()}
	}
	n, err := archive.Copy(meter.Writer(w), data)
	if err == nil && u.run.Hash {
		u.losing.Lock()
		defer u.losing.Unlock()
		if u.sums == nil {
			u.sums = map[int][]byte{}
		}
		u.sums[i] = meter.Sums[0].Sum(nil)
	}
	return n, err
}

// advance is how many bytes of a source that comes in order were read since the last
// call.
func (u *unit) advance() int64 {
	if u.inside != nil || u.AnyOrder() {
		return 0
	}
	was := u.read
	u.read = u.archive.Position()
	return u.read - was
}

// share is how many bytes of the source each byte of an entry stands for; the
// entries of an archive inside another count with that.
func (u *unit) share(i int) float64 {
	entry := &u.entries[i]
	if u.inside != nil || !u.AnyOrder() || entry.Size <= 0 || entry.Packed <= 0 {
		return 0
	}
	return float64(entry.Packed) / float64(entry.Size)
}

// sum finds the size and the checksum of an entry, for what has none.
func (u *unit) sum(i int, data io.Reader) error {
	sum := crc32.NewIEEE()
	size, err := u.pour(i, data, sum)
	entry := &u.entries[i]
	if !entry.HasCRC32 {
		if u.found == nil {
			u.found = map[int]bool{}
		}
		u.found[i] = true
	}
	entry.Size, entry.CRC32, entry.HasCRC32 = size, sum.Sum32(), true
	return err
}
