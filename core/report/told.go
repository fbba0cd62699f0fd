package report

import (
	"slices"

	"widecrate/core/archive"
)

// Told is what everybody is told of how archives were read, each remark once.
type Told []Remarked

// Remarked is a remark on some archives.
type Remarked struct {
	archive.Remark
	Archives []string
}

// Add takes note of what is remarked on an archive.
func (t *Told) Add(path string, remarks archive.RemarkList) {
	for _, r := range remarks.Told() {
		at := slices.IndexFunc(*t, func(known Remarked) bool { return known.Remark == r })
		if at < 0 {
			at = len(*t)
			*t = append(*t, Remarked{Remark: r})
		}
		(*t)[at].Archives = append((*t)[at].Archives, path)
	}
}
