package extract

import (
	"errors"
	"io"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/schedule"
	"widecrate/core/stage"
)

// staged is the output of a real run: all data is written to staging, and then
// put into place together.
type staged struct {
	*unit
	stage  *stage.Unit
	wanted []int   // items whose data is needed
	shares [][]int // of these: indices into wanted
}

// pass stages what passes by, before its place is known.
func (s *staged) pass(i int, data io.Reader) error {
	if s.stage == nil {
		root, err := s.root.use(s.run)
		if err != nil {
			return err
		}
		s.stage = root.Gather()
	}
	entry := &s.entries[i]
	err := s.stage.Stage(i, &stage.Item{Entry: *entry, Name: s.Called(i)}, func(w io.Writer) (err error) {
		entry.Size, err = s.pour(i, data, w)
		return err
	})
	s.run.Progress.Entries.Add(1)
	return err
}

func (s *staged) drop(i int) error {
	if s.stage == nil {
		return nil
	}
	return s.stage.LoseNumber(i)
}

// begin makes ready what is to be written, where there is room for it.
func (s *staged) begin() (work schedule.Work, err error) {
	root, err := s.root.use(s.run)
	if err != nil {
		return work, err
	}
	if s.stage != nil {
		return work, s.stage.Complete(s.target.Folder, s.plan.Items, s.plan.Kept, s.run.Rules)
	}
	if s.stage, err = root.Begin(s.target.Folder, s.plan.Items, s.run.Rules); err != nil {
		return work, err
	}
	holes := int64(0) // which take no room on a disk
	for k := range s.plan.Items {
		if _, link := s.plan.LinkOf(k); !link && s.stage.Wanted(k) {
			s.wanted = append(s.wanted, k)
			work.Weight = archive.Plus(work.Weight, s.plan.Items[k].Size)
			holes = archive.Plus(holes, s.plan.Items[k].Holes)
		}
	}
	if err := s.budget.Check(work.Weight); err != nil {
		return work, err
	}
	s.shares = schedule.Shares(len(s.wanted), func(n int) int64 { return s.entries[s.plan.Kept[s.wanted[n]]].Size })
	for _, share := range s.shares {
		work.Shares = append(work.Shares, share[0])
	}
	s.archive.Foresee(func(yield func(int) bool) {
		for _, n := range slices.Concat(s.shares...) {
			if !yield(s.plan.DataOf(s.wanted[n])) {
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
		return fault.At(absolute(s.target.Root), fault.New(fault.Unwritable, "%d bytes are needed there and %d are free", wanted, bytes))
	case files >= 0 && int64(len(s.plan.Items)) > files:
		return fault.At(absolute(s.target.Root), fault.New(fault.Unwritable, "%d files are to be made there and there is room for %d", len(s.plan.Items), files))
	}
	return nil
}

// do stages a share of the wanted items.
func (s *staged) do(share int) (int, error) {
	hand := s.stage.Hand()
	defer hand.Close()
	for _, n := range s.shares[share] {
		k := s.wanted[n]
		err := hand.Write(k, func(w io.Writer) error { return s.copy(s.plan.DataOf(k), w) })
		called := s.Called(s.plan.Kept[k])
		if s.salvages(err) || errors.Is(err, archive.ErrUnsupported) {
			s.lose(called, err)
			err = s.stage.Lose(k)
		}
		if err != nil {
			return n, fault.At(called, err)
		}
		s.run.Progress.Entries.Add(1)
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
	if err := s.archive.Unchanged(); err != nil {
		return nil, err
	}
	return s.stage.Commit()
}

// allLost reports whether all files and links that were kept could not be had.
func (s *staged) allLost() bool {
	lost, kept := s.outcome.LostEntries(), 0
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

func (s *staged) gone() []string { return s.stage.Gone() }

func (s *staged) discard() error {
	if s.stage == nil {
		return nil
	}
	return s.stage.Discard()
}

// copiesLinks reports whether the data of some hard link is still to be read, because what it
// is a second name of was skipped or lost.
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
		if s.run.ctx.Err() != nil {
			return s.run.ctx.Err()
		}
		first, copied := copies[j]
		if !copied {
			first = j
		}
		done, err := s.stage.HardLink(k, first)
		if err == nil && !done {
			hand := s.stage.Hand()
			err = hand.Write(k, func(w io.Writer) error { return s.copy(s.plan.DataOf(j), w) })
			hand.Close()
			copies[j] = k
			if s.salvages(err) {
				s.lose(s.Called(s.plan.Kept[k]), err)
				err = s.stage.Lose(k)
			}
		}
		if err != nil {
			return fault.At(s.Called(s.plan.Kept[k]), err)
		}
	}
	return nil
}
