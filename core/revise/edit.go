package revise

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
)

// A Move is a new path for an entry, or for a folder with all below it.
type Move struct{ Old, New string }

// An Edit is a request to change archives.
type Edit struct {
	Sources  []source.Source
	Add      create.Options // sources, puts, texts and streams; an entry with the path of one of them is replaced
	Remove   []string       // patterns, as in choose.Rules
	Moves    []Move
	Reading  archive.Options
	Limits   bound.Limits
	Workers  int      // 0: one for each processor
	ReadBack bool     // read the new archives again before they appear, and compare them with what was written
	Nested   int      // how deep archives inside archives are changed as well; 0: not
	Archives []string // then, only archives that match one are changed; none: all
	Keep     string   // the folder in which the archives are kept as they were; empty: nowhere
	Halt     bool     // start no further archive after one has failed
	DryRun   bool     // find out what would change, and write nothing
}

// Complete puts what zero values stand for in their place.
func (e *Edit) Complete() {
	if e.Add.Selection == nil {
		e.Add.Selection = new(choose.Selection)
	}
	if e.Workers < 1 {
		e.Workers = source.Workers(e.Sources)
	}
}

// Run changes archives, several at a time, and reports each in the order of the sources: a
// *report.Edited, or in the end a *report.NotTaken where the run halted. A new one takes the
// place of the old one when it is complete. Entries that stay are copied as they are packed;
// where nothing would change, the archive stays. The errors of an archive are of kind
// fault.Refused (a path is taken, an archive in parts), or those of reading and writing; with
// any of them it is as it was. Run itself fails with kind fault.Usage before anything is done
// (nothing to do, a path that is none), and with kind fault.NoMatch where no archive has what
// was to be moved, though none failed.
func (e Edit) Run(ctx context.Context, tell report.Sink) error {
	e.Complete()
	moves, err := e.check()
	if err != nil {
		return err
	}
	streams, err := e.keepStreams()
	if err != nil {
		return err
	}
	defer streams.Close()
	e.Add.Workers = max(1, e.Workers/max(1, len(e.Sources)))
	all := &matches{removed: map[string]bool{}, moved: make([]bool, len(moves))}
	failed := false
	left, err := schedule.Each(ctx, len(e.Sources), schedule.Options{Workers: e.Workers, Halt: e.Halt}, func(i int) (*report.Edited, error) {
		r := &report.Edited{Archive: e.Sources[i].Path, Source: e.Sources[i].Path, DryRun: e.DryRun}
		started := time.Now()
		r.Err = fault.Guard(func() error {
			one := &editing{Edit: e, ctx: ctx, all: all, r: r, moves: moves, again: streams.again}
			one.asked = &editing{Edit: e, moves: moves}
			return one.run(e.Sources[i])
		})
		r.Took = report.Since(started)
		return r, r.Err
	}, func(r *report.Edited) {
		failed = failed || r.Err != nil
		tell(r)
	})
	if err != nil {
		return err
	}
	tell.Left(left, func(i int) string { return e.Sources[i].Path })
	if failed {
		return nil
	}
	return all.missing(e, tell)
}

// check finds what is wrong with what is asked for, and cleans the paths of the moves.
func (e *Edit) check() (moves []Move, err error) {
	for _, m := range e.Moves {
		to, err := place.Clean(m.New)
		if err != nil || to == "." {
			return nil, fault.New(fault.Usage, "%q cannot be a path in an archive", m.New)
		}
		moves = append(moves, Move{path.Clean(m.Old), to})
	}
	if _, err := choose.New(choose.Rules{Drop: e.Remove}); err != nil {
		return nil, err
	}
	add := &e.Add
	if len(add.Sources)+len(add.Puts)+len(add.Texts)+len(add.Streams)+len(e.Remove)+len(e.Moves) == 0 {
		return nil, fault.New(fault.Usage, "there is nothing to change: name what to add, remove or move")
	}
	return moves, nil
}

// kept are streams that several archives get.
type kept struct {
	streams []create.Stream
	data    []blob.Blob // nil: the streams themselves
}

func (e *Edit) keepStreams() (k kept, err error) {
	k.streams = e.Add.Streams
	if len(e.Sources) < 2 && e.Nested == 0 {
		return k, nil
	}
	for _, s := range k.streams {
		data, err := blob.Spool(s.Data, inMemory, nil)
		if err != nil {
			k.Close()
			return k, err
		}
		k.data = append(k.data, data)
	}
	return k, nil
}

func (k *kept) again() []create.Stream {
	if k.data == nil {
		return k.streams
	}
	streams := slices.Clone(k.streams)
	for i := range streams {
		streams[i].Data = io.NewSectionReader(k.data[i], 0, k.data[i].Size())
	}
	return streams
}

func (k *kept) Close() {
	for _, data := range k.data {
		data.Close()
	}
}

// matches say what was found in any of the archives.
type matches struct {
	mu      sync.Mutex
	removed map[string]bool // patterns that removed something
	moved   []bool          // moves that were done, now or before
	nearest string          // to the first that was not
	apart   int
}

func (m *matches) add(p *plan) {
	m.mu.Lock()
	defer m.mu.Unlock()
	spare := p.remove.Unmatched()
	for _, pattern := range p.edit.Remove {
		if !slices.ContainsFunc(spare, func(rule choose.Unmatched) bool { return rule.Text == pattern }) {
			m.removed[pattern] = true
		}
	}
	for i, move := range p.moves {
		m.moved[i] = m.moved[i] || move.done
		if !move.done && move.nearest != "" && (m.nearest == "" || move.apart < m.apart) {
			m.nearest, m.apart = move.nearest, move.apart
		}
	}
}

// missing says what was found in none.
func (m *matches) missing(e Edit, tell report.Sink) error {
	in := "in it"
	if len(e.Sources) > 1 {
		in = "in any of them"
	}
	for _, pattern := range e.Remove {
		if !m.removed[pattern] && len(e.Sources) > 0 {
			tell(report.Notice(fmt.Sprintf("nothing %s matches %q, which was to be removed", in, pattern)))
		}
	}
	for i, done := range m.moved {
		if !done && len(e.Sources) > 0 {
			err := fault.New(fault.NoMatch, "nothing %s has the path %q", in, e.Moves[i].Old)
			if m.nearest != "" && 2*m.apart <= len(e.Moves[i].Old) {
				return err.Advise("the nearest is \"" + m.nearest + "\"")
			}
			return err
		}
	}
	return nil
}
