package report

import (
	"slices"

	"widecrate/core/archive"
)

// Remarks are those on how archives were read that are reported, each once.
type Remarks []Remarked

// Remarked is a remark on some archives.
type Remarked struct {
	archive.Remark
	Archives []string
}

// Add takes note of what is remarked on an archive.
func (l *Remarks) Add(path string, remarks archive.RemarkList) {
	for _, r := range remarks.Reported() {
		at := slices.IndexFunc(*l, func(known Remarked) bool { return known.Remark == r })
		if at < 0 {
			at = len(*l)
			*l = append(*l, Remarked{Remark: r})
		}
		(*l)[at].Archives = append((*l)[at].Archives, path)
	}
}
