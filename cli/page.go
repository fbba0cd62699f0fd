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
	all  *page.Page // about the run that this is part of; nil: it is none
	*streams
}

func (o *pageOption) addTo(set *option.Set) { set.Text(&o.file, "report") }

func newPage(command string) *page.Page {
	return &page.Page{Command: command, Args: os.Args[1:], Version: Version, Started: time.Now(), Say: say}
}

// begin starts to gather what happens.
func (o *pageOption) begin(cmd *cobra.Command, s *streams) {
	o.all, o.streams = s.page, s
	if o.file != "" {
		o.page = newPage(cmd.Name())
	}
}

func (o *pageOption) event(e report.Event) {
	for _, p := range []*page.Page{o.page, o.all} {
		if p != nil {
			p.Event(e)
		}
	}
}

// finish makes the page of a run that ended with an error; nil: all went well. It is
// to be deferred.
func (o *pageOption) finish(err *error) {
	if o.page == nil && o.all == nil || fault.Of(*err) == fault.Usage {
		return
	}
	if _, shown := (*err).(reported); !shown && *err != nil {
		o.event(&report.Failed{Err: *err})
	}
	if o.page == nil {
		return
	}
	*err = o.streams.both(*err, o.page.Write(o.file, exitCode(*err)))
}
