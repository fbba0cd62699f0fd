package source

import (
	"crypto/sha256"
	"encoding/binary"
)

// A Shard is a share of sources: that of Index, from 0, among Count. All shares
// together are all sources, and no two have one in common.
type Shard struct{ Index, Count int }

// Of divides sources into those that are in the share, and the others, which take their place:
// there may be millions.
func (s Shard) Of(sources []Source) (in, others []Source) {
	others = sources[:0]
	for _, source := range sources {
		if source.Share(s.Count) == s.Index {
			in = append(in, source)
		} else {
			others = append(others, source)
		}
	}
	return in, others
}

// Share is the share, among so many, that a source is in. It depends on the path of the
// source below the folder that was named, or its own name or address, and on nothing else:
// neither on the others nor on where the folder lies.
func (s Source) Share(count int) int {
	key := s.Sub + "/" + s.Name()
	if s.Address() != nil && !s.rest().listed {
		key = s.Path
	}
	sum := sha256.Sum256([]byte(key))
	return int(binary.BigEndian.Uint64(sum[:]) % uint64(count)) //nolint:gosec // below count
}
