package claim

import (
	"context"
	"errors"
	"time"

	"widecrate/core/place"
	"widecrate/core/remote"
)

// turnSilence is how long a turn at an address may last: then its run counts as dead.
const turnSilence = 20 * time.Second

// mostFailures is how often in a row a server may refuse a turn that nobody has.
const mostFailures = 20

// Turn waits until nobody else changes a file at an address: as long as it is held, an empty folder with a hidden name is
// beside it, which a server makes for one of several who ask at once. One that stays for long is that of a dead run, and is
// removed. release ends the turn. Where the server does not let such a folder be made, the error is the server's.
func Turn(ctx context.Context, at *remote.Address) (release func(), err error) {
	beside := at.Sibling(place.StagingPrefix + "turn-" + at.Name() + "/")
	var seen remote.Info
	since, failures := time.Now(), 0
	for {
		err := beside.MakeNew(ctx)
		if err == nil {
			return func() { _ = beside.Remove(context.WithoutCancel(ctx)) }, nil // one that stays is taken for dead
		}
		// A server may also refuse because the folder was there a moment ago.
		if failures++; failures == mostFailures && !errors.Is(err, remote.ErrThere) {
			return nil, err
		}
		now, err := beside.Now(ctx)
		switch {
		case err != nil:
		case !now.Same(&seen):
			seen, since, failures = now, time.Now(), 0
		case time.Since(since) > turnSilence:
			if err := beside.Remove(ctx); err != nil && !errors.Is(err, remote.ErrMissing) {
				return nil, err
			}
		default:
			failures = 0
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
