package option

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widecrate/core/job"
)

// Keys are the options of a command as the keys of a job file.
func Keys(cmd *cobra.Command) (keys []job.Key) {
	Declare(cmd)
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Annotations[helpKey] == nil {
			return
		}
		k := job.Key{Name: f.Name, Help: f.Annotations[helpKey][0]}
		v := f.Value
		if inside, ok := v.(*filled); ok {
			v = inside.Value
		}
		switch v := v.(type) {
		case *truth:
			k.Form = job.Switch
		case *texts, *list:
			k.Form = job.Texts
		case *number:
			k.Form, k.Least = job.Number, v.least
		case *bounded:
			if !v.size {
				k.Form = job.Number
			}
		case Pairs:
			k.Form = job.Rows
		case interface{ among() []string }:
			k.Form, k.Words = job.Word, v.among()
		case Value:
			k.Words = slices.DeleteFunc(slices.Clone(v.Words()), func(word string) bool { return strings.HasSuffix(word, "=") })
		}
		keys = append(keys, k)
	})
	return keys
}

// SetRows gives an option the pairs that a job file has.
func SetRows(f *pflag.Flag, rows [][]string) {
	*f.Value.(*filled).Value.(Pairs).Rows = rows
	f.Changed = true
}

// Rows are the pairs that an option was given.
func Rows(f *pflag.Flag) [][]string {
	if pairs, ok := f.Value.(*filled).Value.(Pairs); ok && pairs.Rows != nil {
		return *pairs.Rows
	}
	return nil
}
