package schedule

import (
	"context"
	"runtime"
	"sync"
)

// Each calls do for each number below n, for so many at a time (0: as many as
// there are processors), and report with what came out, in order, never twice at
// a time. Once ctx is cancelled nothing more is reported, and its error is
// returned when all that was begun has ended; do is called all the same, and
// should look at ctx.
func Each[T any](ctx context.Context, n, workers int, do func(i int) T, report func(T)) error {
	if workers < 1 {
		workers = runtime.GOMAXPROCS(0)
	}
	done := make([]chan T, n)
	for i := range done {
		done[i] = make(chan T, 1)
	}
	turns := make(chan struct{}, workers)
	var group sync.WaitGroup
	defer group.Wait()
	group.Go(func() {
		for i := range n {
			turns <- struct{}{}
			group.Go(func() {
				defer func() { <-turns }()
				done[i] <- do(i)
			})
		}
	})
	for i := range done {
		result := <-done[i]
		if ctx.Err() == nil {
			report(result)
		}
	}
	return ctx.Err()
}
