package extract

import (
	"errors"
	"io"
	"slices"

	"github.com/dustin/go-humanize"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/plan"
	"widecrate/core/schedule"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// staged is the output of a real run: all data is written to staging, and then
// put into place together.
type staged struct {
	from      *opened
	unit      *unit
	plan      *plan.Plan       // nil until it is complete
	gathering *stage.Gathering // of what comes in order; nil: nothing was staged yet
	stage     stage.Unit       // nil until the plan is complete
	wanted    []int            // items whose data is needed
	shares    [][]int          // of these: indices into wanted
}

// pass stages what passes by, before its place is known.
func (s *staged) pass(i int, data io.Reader) error {
	if s.gathering == nil {
		root, err := s.unit.root.use(s.from.run)
		if err != nil {
			return err
		}
		s.gathering = root.Gather()
	}
	entry := &s.from.entries[i]
	err := s.gathering.Stage(i, &stage.Item{Entry: *entry, Name: s.from.Called(i)}, func(w io.Writer) (err error) {
		entry.Size, err = s.from.pour(i, data, w)
		return err
	})
	s.from.run.Progress.Entries.Add(1)
	return err
}

func (s *staged) drop(i int) error {
	if s.gathering == nil {
		return nil
	}
	return s.gathering.Lose(i)
}

// begin makes ready what is to be written, where there is room for it.
func (s *staged) begin(p *plan.Plan) (work schedule.Work, err error) {
	s.plan = p
	root, err := s.unit.root.use(s.from.run)
	if err != nil {
		return work, err
	}
	rules := s.from.run.Rules
	if s.gathering != nil {
		s.stage, err = s.gathering.Complete(p.Target.Folder, p.Items, p.Kept, rules)
		return work, err
	}
	if s.stage, err = root.Begin(p.Target.Folder, p.Items, rules); err != nil {
		return work, err
	}
	holes := int64(0) // which take no room on a disk
	for k := range p.Items {
		if _, link := p.LinkOf(k); !link && s.stage.Wanted(k) {
			s.wanted = append(s.wanted, k)
			work.Weight = archive.Plus(work.Weight, p.Items[k].Size)
			holes = archive.Plus(holes, p.Items[k].Holes)
		}
	}
	if err := s.from.budget.Check(work.Weight); err != nil {
		return work, err
	}
	s.shares = schedule.Shares(len(s.wanted), func(n int) int64 { return s.from.entries[p.Kept[s.wanted[n]]].Size })
	for _, share := range s.shares {
		work.Shares = append(work.Shares, share[0])
	}
	s.from.archive.Foresee(func(yield func(int) bool) {
		for _, n := range slices.Concat(s.shares...) {
			if !yield(p.DataOf(s.wanted[n])) {
				return
			}
		}
	})
	return work, s.checkSpace(root, work.Weight-holes)
}

// checkSpace compares what is about to be written with the free space.
func (s *staged) checkSpace(root *stage.Root, wanted int64) error {
	bytes, files := root.Free()
	switch {
	case bytes >= 0 && wanted > bytes:
		return fault.At(storage.Absolute(s.plan.Target.Root), fault.New(fault.Unwritable, "%s are needed there and %s are free", humanize.IBytes(uint64(wanted)), humanize.IBytes(uint64(bytes))))
	case files >= 0 && int64(len(s.plan.Items)) > files:
		return fault.At(storage.Absolute(s.plan.Target.Root), fault.New(fault.Unwritable, "%d files are to be made there and there is room for %d", len(s.plan.Items), files))
	}
	return nil
}

// do stages a share of the wanted items.
func (s *staged) do(share int) (int, error) {
	to := s.stage.Writer()
	defer to.Close()
	for _, n := range s.shares[share] {
		k := s.wanted[n]
		err := to.Write(k, func(w io.Writer) error { return s.from.copy(s.plan.DataOf(k), w) })
		called := s.from.Called(s.plan.Kept[k])
		if s.from.salvages(err) || errors.Is(err, archive.ErrUnsupported) {
			s.from.lose(called, err)
			err = s.stage.Lose(k)
		}
		if err != nil {
			return n, fault.At(called, err)
		}
		s.from.run.Progress.Entries.Add(1)
	}
	return 0, nil
}

func (s *staged) commit() ([]stage.Result, error) {
	if s.stage == nil || s.allLost() { // no folder for nothing
		return nil, nil
	}
	if err := s.makeLinks(); err != nil {
		return nil, err
	}
	if err := s.from.archive.Unchanged(); err != nil {
		return nil, err
	}
	return s.stage.Commit()
}

// allLost reports whether all files and links that were kept could not be had.
func (s *staged) allLost() bool {
	lost, kept := s.from.outcome.LostEntries(), 0
	if lost == 0 {
		return false
	}
	for k := range s.plan.Items {
		if s.plan.Items[k].Kind != archive.Folder {
			kept++
		}
	}
	return lost == kept
}

func (s *staged) changes() changes {
	return changes{s.stage.Gone(), s.stage.Made(), s.stage.Swapped()}
}

// finish closes the archive, whose links need no data of their own: those that wait for their
// turn are many.
func (s *staged) finish() {
	if !s.copiesLinks() {
		s.from.close()
	}
}

func (s *staged) discard() error {
	switch {
	case s.stage != nil:
		return s.stage.Discard()
	case s.gathering != nil:
		return s.gathering.Discard()
	}
	return nil
}

// copiesLinks reports whether the data of some hard link is still to be read, because the
// first name of the file was skipped or lost.
func (s *staged) copiesLinks() bool {
	if s.stage == nil {
		return false
	}
	for k := range s.plan.Items {
		if j, link := s.plan.LinkOf(k); link && s.stage.Wanted(k) && !s.stage.Staged(j) {
			return true
		}
	}
	return false
}

// makeLinks stages hard links, after the items that they are links to.
func (s *staged) makeLinks() error {
	copies := map[int]int{} // of what was not needed itself: the first of its second names
	for k := range s.plan.Items {
		j, link := s.plan.LinkOf(k)
		if !link || !s.stage.Wanted(k) {
			continue
		}
		if s.from.run.ctx.Err() != nil {
			return s.from.run.ctx.Err()
		}
		first, copied := copies[j]
		if !copied {
			first = j
		}
		done, err := s.stage.HardLink(k, first)
		if err == nil && !done {
			to := s.stage.Writer()
			err = to.Write(k, func(w io.Writer) error { return s.from.copy(s.plan.DataOf(j), w) })
			to.Close()
			copies[j] = k
			if s.from.salvages(err) {
				s.from.lose(s.from.Called(s.plan.Kept[k]), err)
				err = s.stage.Lose(k)
			}
		}
		if err != nil {
			return fault.At(s.from.Called(s.plan.Kept[k]), err)
		}
	}
	return nil
}
