package cli

import (
	"sync/atomic"
	"time"

	"widecrate/cli/option"
	"widecrate/cli/show"
)

// progressOption is for the commands that may take long.
type progressOption struct{ progress option.Choice[when] }

func (o *progressOption) addTo(set *option.Set) {
	o.progress = whenChoice()
	set.Value(&o.progress, "progress")
}

// start draws a line about how far the run is, until the function that it
// returns is called.
func (o *progressOption) start(s *streams, quiet bool, text func() string) (stop func()) {
	if when := o.progress.Value(); quiet || when == never || when == auto && !s.err.Terminal {
		return func() {}
	}
	return show.StartProgress(s.err, text, s.out).Stop
}

// startBytes is the same where bytes are all there is to tell; all is how many
// there will be, 0 if that is not known.
func (o *progressOption) startBytes(s *streams, quiet bool, done *atomic.Int64, all int64) (stop func()) {
	started := time.Now()
	return o.start(s, quiet, func() string {
		text := show.Size(done.Load())
		if all > 0 {
			text += " of " + show.Size(all)
		}
		return show.Rate(time.Since(started), done.Load(), done.Load(), all, text)
	})
}
