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
	other := fault.At(path, fault.New(fault.Refused, "it is there already, and is not %s", what).Advise("nothing was done; choose another name"))
	if !info.Mode().IsRegular() {
		return other
	}
	data, err := blob.Open(path)
	if err != nil {
		return err
	}
	defer data.Close()
	start := make([]byte, min(kindSize, data.Size()))
	if n, err := data.ReadAt(start, 0); err != nil && err != io.EOF {
		return fault.Reading(path, err)
	} else if start = start[:n]; n > 0 && !is(start) {
		return other
	}
	return nil
}
