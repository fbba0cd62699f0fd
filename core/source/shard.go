package source

import (
	"crypto/sha256"
	"encoding/binary"
	"slices"
)

// A Shard is a share of sources: that of Index, from 0, among Count. All shares
// together are all sources, and no two have one in common.
type Shard struct{ Index, Count int }

// Of leaves those of sources that are in the share. Which one a source is in depends on
// its path below the folder that was named, or its own name or address, and on nothing
// else: neither on the others nor on where the folder lies.
func (s Shard) Of(sources []Source) []Source {
	return slices.DeleteFunc(sources, func(source Source) bool {
		key := source.Sub + "/" + source.Name()
		if source.Address != nil {
			key = source.Path
		}
		sum := sha256.Sum256([]byte(key))
		return binary.BigEndian.Uint64(sum[:])%uint64(s.Count) != uint64(s.Index) //nolint:gosec // neither is negative
	})
}
