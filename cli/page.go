package cli

import (
	"os"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/page"
	"widecrate/core/fault"
	"widecrate/core/report"
)

// pageOption makes a page about the run.
type pageOption struct {
	file string
	page *page.Page // nil: there is to be none
}

func (o *pageOption) addTo(set *option.Set) { set.Text(&o.file, "report") }

// begin starts to gather what happens.
func (o *pageOption) begin(cmd *cobra.Command) {
	if o.file != "" {
		o.page = &page.Page{Command: cmd.Name(), Args: os.Args[1:], Started: time.Now(), Say: say}
	}
}

func (o *pageOption) event(e report.Event) {
	if o.page != nil {
		o.page.Event(e)
	}
}

// finish makes the page of a run that ended with an error; nil: all went well. It is
// to be deferred.
func (o *pageOption) finish(err *error) {
	if o.page == nil || fault.Of(*err) == fault.Usage {
		return
	}
	if _, shown := (*err).(reported); !shown && *err != nil {
		o.page.Event(&report.Failed{Err: *err})
	}
	if failed := o.page.Write(o.file, exitCode(*err)); *err == nil {
		*err = failed
	}
}
