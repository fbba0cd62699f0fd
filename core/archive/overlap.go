package archive

import (
	"iter"

	"widecrate/core/blob"
	"widecrate/core/fault"
)

// CheckOverlap refuses entries of an image whose data overlaps in part, with an error of
// kind fault.Unsafe: an image may well have the same data under several names, but then
// from its start. The ranges are those of the entries, by their numbers.
func CheckOverlap(entries []Entry, ranges iter.Seq2[int, blob.Range]) error {
	a, b, found := blob.Overlapping(ranges)
	if !found {
		return nil
	}
	return fault.New(fault.Unsafe, "the data of %q overlaps that of %q", entries[b].Path, entries[a].Path).
		Advise("no honest image is built like this; do not unpack it")
}
