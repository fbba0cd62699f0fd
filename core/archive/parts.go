package archive

import (
	"fmt"
	"sort"
)

// Parts are the files that an archive lies in, in order; nil: it is one file.
type Parts []Part

// A Part is one of them.
type Part struct {
	Name  string
	Start int64 // in the whole, in bytes
	Size  int64
}

// At returns in which part an offset of the whole lies; one at the end or beyond
// lies in the last.
func (p Parts) At(offset int64) int {
	return sort.Search(len(p)-1, func(i int) bool { return offset < p[i+1].Start })
}

// Border names the place between part i and the one before it.
func (p Parts) Border(i int) string {
	return fmt.Sprintf("at the border of parts %d (%s) and %d (%s)", i, p[i-1].Name, i+1, p[i].Name)
}
