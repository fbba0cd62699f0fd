package extract

import (
	"crypto/sha256"
	"hash"
	"hash/crc32"
	"io"

	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/schedule"
)

// aheadPiece is so much of an entry as is decoded ahead at a time.
const aheadPiece = 256 << 10

// copy writes the data of an entry that can be read at any time.
func (u *unit) copy(i int, w io.Writer) error {
	data, err := u.archive.Open(i)
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
	out := &onward{u: u, w: w, share: u.share(i)}
	if u.run.Hash {
		out.sum = sha256.New()
	}
	n, err := archive.Copy(out, data)
	if err == nil && out.sum != nil {
		u.losing.Lock()
		defer u.losing.Unlock()
		if u.sums == nil {
			u.sums = map[int][]byte{}
		}
		u.sums[i] = out.sum.Sum(nil)
	}
	return n, err
}

// onward counts what is written to w.
type onward struct {
	u     *unit
	w     io.Writer
	share float64   // of the source for each byte
	sum   hash.Hash // nil: nobody asks
}

func (o *onward) Write(p []byte) (int, error) {
	if err := o.count(int64(len(p))); err != nil {
		return 0, err
	}
	if o.sum != nil {
		o.sum.Write(p) // never fails
	}
	return o.w.Write(p)
}

// WriteHole is that of archive.HoleWriter. Where w has no holes, it gets zeros.
func (o *onward) WriteHole(n int64) error {
	if holes, ok := o.w.(archive.HoleWriter); ok {
		if err := o.count(n); err != nil {
			return err
		}
		for left := n; o.sum != nil && left > 0; left -= int64(len(zeros)) {
			o.sum.Write(zeros[:min(left, int64(len(zeros)))])
		}
		return holes.WriteHole(n)
	}
	for n > 0 {
		zeros := zeros[:min(n, int64(len(zeros)))]
		if _, err := o.Write(zeros); err != nil {
			return err
		}
		n -= int64(len(zeros))
	}
	return nil
}

var zeros [64 << 10]byte

// count takes note of what is about to be written.
func (o *onward) count(n int64) error {
	if err := o.u.budget.Spend(n); err != nil {
		return err
	}
	if err := o.u.run.ctx.Err(); err != nil {
		return err
	}
	o.u.run.Progress.Bytes.Add(n)
	o.u.run.Progress.Read.Add(int64(o.share*float64(n)) + o.u.advance())
	return nil
}

// advance is how many bytes of a source that comes in order were read since the last
// call.
func (u *unit) advance() int64 {
	if u.inside != nil || u.archive.Stream == nil {
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
	if u.inside != nil || u.archive.Stream != nil || entry.Size <= 0 || entry.Packed <= 0 {
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
