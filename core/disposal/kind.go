package disposal

import (
	"errors"
	"io"
	"io/fs"

	"widecrate/core/fault"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// kindSize is how much of a file tells its kind.
const kindSize = 4096

// OfKind makes sure that what is written over, or appended to, is a file of the same kind:
// is tells that by its first bytes. One that is not there, or empty, can become anything.
// Anything else is of kind fault.Refused.
func OfKind(sites storage.Sites, path, what string, is func(start []byte) bool) error {
	return remote.Settled(func() error { return ofKind(sites, path, what, is) })
}

func ofKind(sites storage.Sites, path, what string, is func(start []byte) bool) error {
	other := fault.At(path, fault.New(fault.Refused, "it is there already, and is not %s", what).Advise("nothing was done; choose another name"))
	switch info, err := sites.Stat(path); {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return fault.Writing(path, err)
	case !info.Mode().IsRegular():
		return other
	case info.Size() == 0:
		return nil
	}
	there, err := sites.Find(path)
	if err != nil || there.Info == nil {
		return err
	}
	data, err := there.Data()
	if err != nil {
		return fault.At(path, err)
	}
	defer data.Close()
	start := make([]byte, min(kindSize, data.Size()))
	n, err := data.ReadAt(start, 0)
	switch {
	case err != nil && err != io.EOF:
		return fault.Reading(path, err)
	case n > 0 && !is(start[:n]):
		return other
	}
	return nil
}
