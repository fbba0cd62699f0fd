package wire

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"widecrate/core/fault"
)

const (
	longestPause = 30 * time.Second
	longestAsked = 10 * time.Minute // that a server may ask for
)

// Lost is the error of a connection that broke, fell silent, or sent what makes no
// sense: another may do better.
type Lost struct{ Err error }

func (l *Lost) Error() string { return l.Err.Error() }
func (l *Lost) Unwrap() error { return l.Err }

// ErrSilent is why a connection is lost that sends nothing.
var ErrSilent = errors.New("no byte came for too long")

// Again does something until it is done, or fails by anything else than a lost connection, or
// by one too often in a row; progress says whether some of it was done before.
func (o *Options) Again(ctx context.Context, do func() (progress bool, err error)) error {
	for tries := 0; ; {
		progress, err := do()
		if err == nil {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if _, lost := errors.AsType[*Lost](err); !lost {
			return err
		}
		if progress {
			tries = 0
		}
		if tries++; tries > o.Retries {
			return fault.New(fault.Unreadable, "the connection was lost %d times in a row: %w", tries, err)
		}
		pause := time.Duration(0)
		if tries > 1 {
			pause = o.Pausing(tries-2, NotAsked, "the connection failed")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// NotAsked is where a server does not ask for a pause.
const NotAsked time.Duration = -1

// Pausing is how long to wait before the next try, and says why: what the server asks for, or
// twice as long as before, less up to a half by chance.
func (o *Options) Pausing(try int, asked time.Duration, why string) time.Duration {
	pause := min(asked, longestAsked)
	if asked == NotAsked {
		pause = min(o.Pause<<min(try, 16), longestPause)
		pause -= time.Duration(rand.Int64N(int64(pause/2) + 1))
	}
	o.Say(why + "; it is asked again in " + pause.Round(10*time.Millisecond).String())
	return pause
}
