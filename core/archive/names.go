package archive

import (
	"sync/atomic"

	"widecrate/core/fault"
)

// LongestPath bounds the stored path of an entry, and the target of a link, in bytes; no
// common system takes more.
const LongestPath = 4096

// MostNames bounds the paths of an archive together with those of all inside it, in bytes:
// they are for several million entries.
const MostNames = 1 << 30

// MostBehind bounds what may stand behind the end of an archive and is nothing: zeros with
// which tapes and devices fill up.
const MostBehind = 64 << 20

// Names keep account of the paths that were read of an archive. They may be used by several
// goroutines.
type Names struct{ bytes atomic.Int64 }

// Take takes paths and targets in when they are read: too long ones, and too many, are of kind
// fault.Unsafe. Without an account only their lengths count.
func (n *Names) Take(paths ...string) error {
	for _, path := range paths {
		if len(path) > LongestPath {
			return fault.New(fault.Unsafe, "a path or link in it is too long: it has %d bytes, and no system takes more than %d", len(path), LongestPath)
		}
		if n != nil && n.bytes.Add(int64(len(path))) > MostNames {
			return fault.New(fault.Unsafe, "its paths have more than %d bytes together", MostNames)
		}
	}
	return nil
}

// Behind makes sure that so many zeros behind the end of an archive are not too many: kind
// fault.Unsafe.
func Behind(zeros int64) error {
	if zeros > MostBehind {
		return fault.New(fault.Unsafe, "more than %d zeros stand behind its end", MostBehind)
	}
	return nil
}
