package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// would takes note of what a job would make.
func (c *runCommand) would(e report.Event) {
	path := ""
	switch e := e.(type) {
	case *report.Unpacked:
		path = e.Target
	case *report.Created:
		path = e.Archive
	case *report.Converted:
		path = e.Path
	}
	if path != "" {
		c.made = append(c.made, foretold{path, c.current})
	}
}

// foretold is what a job would make.
type foretold struct{ path, job string }

// before says why a job that others come before is not looked at in a dry run: some of what it
// needs would be there by then.
func (c *runCommand) before(t *jobRun) error {
	var there []string
	for _, arg := range t.args {
		if _, err := os.Lstat(arg); err == nil {
			continue
		}
		at := storage.Absolute(arg)
		i := slices.IndexFunc(c.made, func(m foretold) bool { return storage.Below(at, m.path) != m.path || storage.Below(m.path, at) != at })
		if i >= 0 {
			there = append(there, fmt.Sprintf("%s would be there by then, made by %s", arg, c.made[i].job))
		}
	}
	if there == nil {
		return fault.New(fault.Other, "not known before %s", strings.Join(t.Follows, ", "))
	}
	return fault.New(fault.Other, "%s", strings.Join(there, "; "))
}
