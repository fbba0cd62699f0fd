package show

import (
	"fmt"

	"widecrate/core/fault"
	"widecrate/core/report"
)

// Jobs says what became of all jobs.
func (o *Output) Jobs(jobs []*report.Job) {
	if o.Quiet {
		return
	}
	s := o.Summary()
	widest := 0
	for _, j := range jobs {
		widest = max(widest, Width(j.Title()))
	}
	table := NewTable(s, Column{Title: "job", Width: widest, Short: true}, Column{Title: "command", Width: 10},
		Column{Title: "took", Width: 8, Right: true}, Column{Title: "result", Text: true})
	for _, j := range jobs {
		result := s.Good("done")
		switch j.State {
		case report.JobFailed:
			result = s.Bad(fmt.Sprintf("failed: %s (%d)", fault.Of(j.Err), s.Say.Code(fault.Of(j.Err))))
		case report.JobNotRun:
			result = j.Err.Error()
		}
		took := ""
		if j.State != report.JobNotRun {
			took = Took(j.Took.Duration)
		}
		table.Row(j.Title(), j.Command, took, result)
	}
}
