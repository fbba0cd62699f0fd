package schedule

import "context"

// Each does n things that have nothing to do with each other, and calls report with what came
// out, in order, never twice at a time. Ordered and Backlog mean nothing; with Halt, one is done after the other,
// as what was done cannot be dropped. It returns which were
// not done after a halt, and the error of the context, after which only what was done without
// an error is still reported.
func Each[T any](ctx context.Context, n int, o Options, do func(i int) (T, error), report func(T)) (left []int, err error) {
	if o.Ordered = false; o.Halt {
		o.Workers = 1
	}
	Run(ctx, o, n, func(i int) Unit {
		return &thing[T]{
			do:     func() (T, error) { return do(i) },
			report: report,
			drop:   func() { left = append(left, i) },
		}
	})
	return left, ctx.Err()
}

// thing is done when it is opened.
type thing[T any] struct {
	do     func() (T, error)
	report func(T)
	drop   func()
	result T
	err    error
}

func (t *thing[T]) Open(func() error) (work Work, err error) {
	t.result, t.err = t.do()
	return work, t.err
}

func (t *thing[T]) Do(int) (int, error) { return 0, nil }
func (t *thing[T]) Finish()             {}
func (t *thing[T]) Settle(error) error  { return t.err }
func (t *thing[T]) Report()             { t.report(t.result) }
func (t *thing[T]) Drop()               { t.drop() }
