package cli

import (
	"time"

	"widecrate/cli/option"
	"widecrate/core/disposal"
	"widecrate/core/source"
)

// afterOptions say what becomes of sources in the end.
type afterOptions struct {
	after  disposal.After
	failed disposal.After
	begun  time.Time
}

func (o *afterOptions) addAfter(set *option.Set) {
	set.Value(option.After{To: &o.after}, "after")
	set.Switch(&o.after.EvenIfPartial, "even-if-partial")
}

func (o *afterOptions) addFailed(set *option.Set) {
	set.Value(option.Failed{After: option.After{To: &o.failed}}, "failed")
}

// look lets sources be looked for only where they do not go, after what killed runs were taking
// away is gone.
func (o *afterOptions) look(r *source.Request, dryRun bool) {
	o.begun = time.Now()
	if !dryRun {
		r.Begun = disposal.Finish(&o.after, &o.failed, o.begun, r.PartsIn)
	}
	r.Skip = func(folder string) bool { return o.after.Receives(folder) || o.failed.Receives(folder) }
}
