package extract

import (
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/schedule"
	"widecrate/core/stage"
)

// foretold is the output of a dry run: nothing is written. Where an archive has no
// checksums, data is summed up, for files to be compared by.
type foretold struct {
	*unit
	stage  *stage.Unit
	failed error // in its data, which a run would only find after it has begun
}

func (f *foretold) pass(i int, data io.Reader) error { return f.sum(i, data) }
func (f *foretold) drop(int) error                   { return nil }
func (f *foretold) do(int) (int, error)              { return 0, f.failed }
func (f *foretold) discard() error                   { return nil }
func (f *foretold) gone() []string                   { return f.stage.Gone() }

func (f *foretold) begin() (work schedule.Work, err error) {
	root, err := f.root.use(f.run)
	if err != nil {
		return work, err
	}
	if f.stage, err = root.Begin(f.target.Folder, f.plan.Items, f.run.Rules); err != nil {
		return work, err
	}
	claimed := int64(0) // what was summed up has been counted
	for k, i := range f.plan.Kept {
		if _, link := f.plan.LinkOf(k); !link && f.stage.Wanted(k) && !f.found[i] {
			claimed = archive.Plus(claimed, f.plan.Items[k].Size)
		}
	}
	if err := f.budget.Check(claimed); err != nil {
		return work, err
	}
	for k := range f.plan.Items {
		if err := f.know(k); err != nil {
			f.failed, work.Shares = fault.At(f.Called(f.plan.Kept[k]), err), []int{0}
			break
		}
	}
	return work, nil
}

// know completes what is known of an item.
func (f *foretold) know(k int) error {
	item, i := &f.plan.Items[k], f.plan.DataOf(f.plan.FirstOf(k))
	if f.AnyOrder() && item.Kind == archive.File && !f.entries[i].HasCRC32 {
		data, err := f.archive.Data(i)
		if err != nil {
			return err
		}
		defer data.Close()
		if err := f.sum(i, data); err != nil {
			return err
		}
	}
	item.CRC32, item.HasCRC32, item.Size = f.entries[i].CRC32, f.entries[i].HasCRC32, f.entries[i].Size
	return nil
}

func (f *foretold) commit() ([]stage.Result, error) {
	if f.stage == nil {
		return nil, nil
	}
	return f.stage.Preview()
}
