package walk

import (
	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// A Request is what all commands that read archives are asked. Zero values are the usual ones.
type Request struct {
	Sources   []source.Source
	Reading   archive.Options
	Selection *choose.Selection // nil: everything
	Nested    int               // how deep archives inside archives are opened; 0: not
	Archives  []string          // inside an archive, what matches one is an archive too; none: what has an archive's extension
	Limits    bound.Limits
	Sums      *parts.Lists // of SHA-256 sums, to check archives against; nil: those beside sets alone
	Fetched   string       // the folder in which what comes from addresses is kept as it came; empty: it is not
	Workers   int          // 0: one for each processor, and more for addresses
}

// Complete puts what zero values stand for in their place.
func (r *Request) Complete() {
	if r.Sums == nil {
		r.Sums = new(parts.Lists)
	}
	if r.Workers < 1 {
		r.Workers = source.Workers(r.Sources)
	} else {
		r.Sums.Workers = r.Workers
	}
}

// Opening says how the sources are opened: checked against the sums before.
func (r *Request) Opening() Opening {
	return Opening{Options: r.Reading, Limits: r.Limits, Sums: r.Sums, Fetched: r.Fetched}
}

// Judge says what the selection says of an entry of an archive that so many lie around, and
// whether the entry is an archive that is to be opened itself.
func (r *Request) Judge(e *archive.Entry, depth int) (verdict choose.Rule, open bool) {
	if r.Nested > 0 && e.Kind == archive.File && source.IsArchive(e.Path, r.Archives) {
		return r.Selection.JudgeArchive(e, depth, r.Nested)
	}
	return r.Selection.Judge(e), false
}
