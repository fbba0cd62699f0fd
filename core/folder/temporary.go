package folder

import (
	"errors"
	"os"

	"widecrate/core/fault"
)

// A Temporary is a file for a while: closing removes it. Where a file that is open can be removed,
// nothing of it outlives a kill.
type Temporary struct {
	*os.File
	named bool // it still has its name
}

// NewTemporary makes one in a folder; empty: in that of the system for such files. Errors are of kind
// fault.Unwritable.
func NewTemporary(dir string) (*Temporary, error) {
	f, err := os.CreateTemp(dir, "widecrate-spool-")
	if err != nil {
		return nil, fault.Writing(dir, err)
	}
	return &Temporary{f, os.Remove(f.Name()) != nil}, nil
}

// Close lets go of it.
func (t *Temporary) Close() error {
	err := t.File.Close()
	if t.named {
		t.named = false
		err = errors.Join(err, os.Remove(t.Name()))
	}
	return err
}
