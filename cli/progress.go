package cli

import (
	"fmt"
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
	if when := o.progress.Value(); quiet || when == never || when == auto && !s.Err.Terminal {
		return func() {}
	}
	return show.StartProgress(s.Err, text, s.Out).Stop
}

// startBytes is the same where bytes are all there is to show; all counts those
// that there will be, and stays 0 where that is not known.
func (o *progressOption) startBytes(s *streams, quiet bool, done, all *atomic.Int64) (stop func()) {
	started := time.Now()
	return o.start(s, quiet, func() string {
		text := show.Size(done.Load())
		if all.Load() > 0 {
			text += " of " + show.Size(all.Load())
		}
		return show.Rate(time.Since(started), done.Load(), done.Load(), all.Load(), text)
	})
}

// startArchives is the same for the bytes of several archives, of which done are
// finished.
func (o *progressOption) startArchives(s *streams, quiet bool, bytes, done *atomic.Int64, all int) (stop func()) {
	started := time.Now()
	return o.start(s, quiet, func() string {
		parts := []string{show.Size(bytes.Load())}
		if all > 1 {
			parts = []string{fmt.Sprintf("%s of %s archives", show.Number(int(done.Load())), show.Number(all)), parts[0]}
		}
		return show.Rate(time.Since(started), bytes.Load(), 0, 0, parts...)
	})
}
