package extract

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/stage"
)

// streamed is the output that goes out as it is decoded.
type streamed struct {
	from  *opened
	plan  *plan.Plan // nil until it is complete
	to    *receiver
	links place.Hardlinks
}

// receiver tells errors of what data goes to from those of the archives.
type receiver struct {
	w   io.Writer
	err error
}

func (r *receiver) Write(p []byte) (int, error) {
	n, err := r.w.Write(p)
	r.err = err
	return n, fault.Writing("output", err)
}

func (s *streamed) pass(i int, data io.Reader) (err error) {
	s.from.entries[i].Size, err = s.from.pour(i, data, s.to)
	s.note(i)
	return err
}

func (s *streamed) drop(int) error { return nil }

// begin leaves all that can be read at any time to one share, for the order.
func (s *streamed) begin(p *plan.Plan) (work schedule.Work, err error) {
	s.plan = p
	if s.from.AnyOrder() {
		work.Shares = []int{0}
	}
	return work, nil
}

func (s *streamed) do(int) (int, error) {
	for k, i := range s.plan.Kept {
		if s.plan.Items[k].Kind != archive.File {
			continue
		}
		if err := s.from.copy(s.plan.DataOf(s.plan.FirstOf(k)), s.to); err != nil {
			return k, fault.At(s.from.Called(i), err)
		}
		s.note(i)
	}
	return 0, nil
}

// passLink writes the data of a hard link when it passes by: the first name of the file has
// passed already, and is read again.
func (s *streamed) passLink(i int) error {
	first, err := s.links.First(s.from.entries, i)
	if err != nil || s.from.entries[first].Kind != archive.File {
		return err
	}
	again, err := s.from.archive.Again()
	if err != nil {
		return err
	}
	if again == nil {
		return fault.New(fault.Refused, "it is a second name of %q, which has passed by", s.from.entries[first].Path).Advise("save the archive in a file first")
	}
	defer again.Close()
	for range first + 1 {
		if err := s.from.run.ctx.Err(); err != nil {
			return err
		}
		if _, err := again.Next(); err != nil {
			return err
		}
	}
	s.from.entries[i].Size, err = s.from.pour(i, again, s.to)
	s.note(i)
	return err
}

// note takes note of an entry that went out.
func (s *streamed) note(i int) {
	e := &s.from.entries[i]
	s.from.outcome.Bytes = archive.Plus(s.from.outcome.Bytes, e.Size)
	s.from.outcome.Placed = append(s.from.outcome.Placed, report.Placed{Entry: e.Path, Kind: e.Kind, Size: e.Size})
}

func (s *streamed) commit() ([]stage.Result, error) { return nil, nil }
func (s *streamed) finish()                         {}
func (s *streamed) discard() error                  { return nil }
func (s *streamed) changes() changes                { return changes{} }
