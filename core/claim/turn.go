package claim

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"widecrate/core/blob"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// turnSilence is how long a turn may last: then its run counts as dead.
const turnSilence = 20 * time.Second

// mostFailures is how often in a row a server may refuse a turn that nobody has.
const mostFailures = 20

// Turn waits until nobody else changes a file that cannot be locked: as long as it is held, an empty folder with a hidden name is
// beside it, which a server makes for one of several who ask at once. One that stays for long is that of a dead run, and is
// removed. release ends the turn. Where the server does not let such a folder be made, the error is the server's.
func Turn(ctx context.Context, dir storage.Folder, name string) (release func(), err error) {
	beside := place.StagingPrefix + "turn-" + name
	var seen blob.File
	since, failures := time.Now(), 0
	for {
		err := dir.MakeFolder(beside)
		if err == nil {
			return func() { _ = dir.RemoveFolder(beside) }, nil // one that stays is taken for dead
		}
		// A server may also refuse because the folder was there a moment ago.
		if failures++; failures == mostFailures && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		now, err := dir.Lstat(beside)
		switch {
		case err != nil:
		case seen.Info == nil || !seen.Is(now):
			seen.Info, since, failures = now, time.Now(), 0
		case time.Since(since) > turnSilence:
			if err := dir.RemoveFolder(beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
