package revise

import (
	"bytes"
	"crypto/sha256"
	"hash"
	"io"
	"time"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/report"
)

// replaced is an entry that another takes the place of.
type replaced struct {
	archive.Entry
	sha256 []byte // of a file that can be read
}

// note keeps what is known of an entry that goes, where another takes its place. One that is
// damaged is replaced all the same.
func (p *plan) note(e *archive.Entry, data io.Reader, meter bound.Meter) error {
	at := cleaned(e.Path)
	if _, added := p.added[at]; !added {
		return nil
	}
	was := replaced{Entry: *e}
	if data != nil {
		meter.Sums = []hash.Hash{sha256.New()}
		_, err := io.Copy(meter.Writer(bound.Nowhere), data)
		switch {
		case err == nil:
			was.sha256 = meter.Sums[0].Sum(nil)
		case bound.Exceeded(err) || meter.Context.Err() != nil:
			return err
		}
	}
	p.was[at] = was
	return nil
}

// same reports whether a new archive holds what the old one does: nothing went or moved, and
// each entry that was added had been there.
func (p *plan) same(packed *report.Created) bool {
	if p.changed || p.edit.Add.Writing.Password != "" && len(packed.Entries) > 0 {
		return false
	}
	for i := range packed.Entries {
		e, from := &packed.Entries[i], packed.From[i]
		was, there := p.was[e.Path]
		if !there || was.Kind != e.Kind || was.Link != e.Link {
			return false
		}
		if e.Kind != archive.File {
			continue
		}
		if was.sha256 == nil || !bytes.Equal(was.sha256, from.SHA256) || from.Path != "" && !sameAttributes(&was.Entry, e) {
			return false
		}
	}
	return true
}

// sameAttributes compares what is recorded of files, whose times some formats round.
func sameAttributes(a, b *archive.Entry) bool {
	const tolerance = 2 * time.Second
	apart := a.Modified.Sub(b.Modified).Abs()
	return apart <= tolerance && a.HasMode == b.HasMode && a.Mode.Perm() == b.Mode.Perm()
}
