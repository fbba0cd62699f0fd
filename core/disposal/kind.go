package disposal

import (
	"errors"
	"io"
	"io/fs"
	"os"

	"widecrate/core/blob"
	"widecrate/core/fault"
)

// kindSize is how much of a file tells its kind.
const kindSize = 4096

// OfKind makes sure that what is written over, or appended to, is a file of the same kind:
// is tells that by its first bytes. One that is not there, or empty, can become anything.
// Anything else is of kind fault.Refused.
func OfKind(path, what string, is func(start []byte) bool) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return fault.Writing(path, err)
	}
	if !info.Mode().IsRegular() {
		return otherKind(path, what)
	}
	data, err := blob.Open(path)
	if err != nil {
		return err
	}
	defer data.Close()
	return OfKindIn(path, what, data, is)
}

// OfKindIn is OfKind for what is open already.
func OfKindIn(path, what string, data blob.Blob, is func(start []byte) bool) error {
	start := make([]byte, min(kindSize, data.Size()))
	n, err := data.ReadAt(start, 0)
	switch {
	case err != nil && err != io.EOF:
		return fault.Reading(path, err)
	case n > 0 && !is(start[:n]):
		return otherKind(path, what)
	}
	return nil
}

func otherKind(path, what string) error {
	return fault.At(path, fault.New(fault.Refused, "it is there already, and is not %s", what).Advise("nothing was done; choose another name"))
}
