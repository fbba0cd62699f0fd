package blob

import (
	"context"
	"crypto/sha256"
	"io"
	"sync"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

const blockSize = 64 << 10

// blocks are what files are read into: of small ones there are very many.
var blocks = sync.Pool{New: func() any { return new([blockSize]byte) }}

// Sum is the SHA-256 of all that comes from r.
func Sum(r io.Reader) ([]byte, error) {
	sum := sha256.New()
	block := blocks.Get().(*[blockSize]byte)
	defer blocks.Put(block)
	if _, err := io.CopyBuffer(sum, struct{ io.Reader }{r}, block[:]); err != nil {
		return nil, err
	}
	return sum.Sum(nil), nil
}

// AddSum fills in the SHA-256 of a file on disk. One that is not as it was found any more, and one at
// an address, gets none. Errors are of kind fault.Unreadable, or that of ctx.
func (f *File) AddSum(ctx context.Context) error {
	if f.Remote {
		return nil
	}
	file, info, err := folder.OpenRegular(f.Path)
	if err != nil {
		return fault.Reading(f.Path, err)
	}
	defer file.Close()
	if !f.Is(info) {
		return nil
	}
	sum, err := Sum(reading{ctx, file})
	if err != nil {
		return fault.Reading(f.Path, err)
	}
	if info, err = file.Stat(); err == nil && f.Is(info) {
		f.SHA256 = sum
	}
	return fault.Reading(f.Path, err)
}

// reading ends with its context.
type reading struct {
	context.Context
	io.Reader
}

func (r reading) Read(p []byte) (int, error) {
	if r.Err() != nil {
		return 0, r.Err()
	}
	return r.Reader.Read(p)
}
