// Package batch works on many things at a time and reports on them in their
// order. It knows nothing of what they are.
package batch

import (
	"context"
	"sync"
)

// Run calls do for each number below n, for so many at a time, and report with
// what came out, in order, never twice at a time. Once ctx is cancelled nothing
// more is reported, and its error is returned when all that was begun has ended;
// do is called all the same, and should look at ctx.
func Run[T any](ctx context.Context, n, workers int, do func(i int) T, report func(T)) error {
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
