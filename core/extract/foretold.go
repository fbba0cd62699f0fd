package extract

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/plan"
	"widecrate/core/schedule"
	"widecrate/core/stage"
)

// foretold is the output of a dry run: nothing is written. Where an archive has no
// checksums, data is summed up, for files to be compared by.
type foretold struct {
	from   *opened
	unit   *unit
	plan   *plan.Plan      // nil until it is complete
	stage  *stage.Foreseen // the same
	failed error           // in its data, which a run would only find after it has begun
}

func (f *foretold) pass(i int, data io.Reader) error { return f.from.sum(i, data) }
func (f *foretold) drop(int) error                   { return nil }
func (f *foretold) do(int) (int, error)              { return 0, f.failed }
func (f *foretold) finish()                          {}
func (f *foretold) discard() error                   { return nil }
func (f *foretold) changes() changes                 { return changes{gone: f.stage.Gone()} }

func (f *foretold) begin(p *plan.Plan) (work schedule.Work, err error) {
	f.plan = p
	root, err := f.unit.root.lookAt()
	if err != nil {
		return work, err
	}
	if f.stage, err = root.Begin(p.Target.Folder, p.Items, f.from.run.Rules); err != nil {
		return work, err
	}
	claimed := int64(0) // what was summed up has been counted
	for k, i := range f.plan.Kept {
		if _, link := f.plan.LinkOf(k); !link && f.stage.Wanted(k) && !f.from.found[i] {
			claimed = archive.Plus(claimed, f.plan.Items[k].Size)
		}
	}
	if err := f.from.budget.Check(claimed); err != nil {
		return work, err
	}
	for k := range f.plan.Items {
		if err := f.know(k); err != nil {
			f.failed, work.Shares = fault.At(f.from.Called(f.plan.Kept[k]), err), []int{0}
			break
		}
	}
	return work, nil
}

// know completes what is known of an item.
func (f *foretold) know(k int) error {
	item, i := &f.plan.Items[k], f.plan.DataOf(f.plan.FirstOf(k))
	if f.from.AnyOrder() && item.Kind == archive.File && !f.from.entries[i].HasCRC32 {
		data, err := f.from.archive.Data(i)
		if err != nil {
			return err
		}
		defer data.Close()
		if err := f.from.sum(i, data); err != nil {
			return err
		}
	}
	item.CRC32, item.HasCRC32, item.Size = f.from.entries[i].CRC32, f.from.entries[i].HasCRC32, f.from.entries[i].Size
	return nil
}

func (f *foretold) commit() ([]stage.Result, error) {
	if f.stage == nil {
		return nil, nil
	}
	return f.stage.Results()
}
