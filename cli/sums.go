package cli

import (
	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// listOption checks archives against a list of sums.
type listOption struct{ checkSums string }

func (o *listOption) addTo(set *option.Set) { set.Text(&o.checkSums, "check-sums") }

// listsBeside stands for those beside the parts of sets.
const listsBeside = "beside"

// lists are those that sources are checked against. A list that names none of them is a mistake.
func (o *listOption) lists(cmd *cobra.Command, sources ...source.Source) (*parts.Lists, error) {
	lists := new(parts.Lists)
	if o.checkSums == "" || o.checkSums == listsBeside {
		return lists, nil
	}
	if err := onDisk(cmd, o.checkSums); err != nil {
		return nil, err
	}
	if err := lists.Give(o.checkSums); err != nil {
		return nil, err
	}
	for _, s := range sources {
		if s.Listed(lists) {
			return lists, nil
		}
	}
	return nil, fault.At(o.checkSums, fault.New(fault.NoMatch, "it names none of the archives"))
}
