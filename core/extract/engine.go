package extract

import (
	"context"
	"sync"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/stage"
)

// backlog bounds the bytes that are staged and wait for their turn to be
// committed into a shared root.
const backlog = 1 << 30

// engine shares the work out. A worker takes archives of its own as long as
// there are any, and then helps with the entries of those of others: small
// archives never meet in one folder, and a large one is not left to one worker.
type engine struct {
	Options
	ctx    context.Context
	report func(*Outcome)
	units  []*unit

	mu       sync.Mutex
	changed  sync.Cond // a unit was opened or settled
	next     int       // first unit that nobody took
	opening  int       // units that were taken and are not open yet
	active   []*unit   // being staged
	finished []bool    // staged, or failed: waiting for those before them
	settled  int       // units before this one are committed and reported
	settling bool
	waiting  int64 // bytes of units that are finished and not settled
	roots    map[string]*openRoot
}

// openRoot is a destination root with the number of units that still need it.
type openRoot struct {
	mu    sync.Mutex
	stage *stage.Root
	err   error
	users int
}

func newEngine(ctx context.Context, o Options, report func(*Outcome)) *engine {
	e := &engine{Options: o, ctx: ctx, report: report, roots: map[string]*openRoot{}, finished: make([]bool, len(o.Sources))}
	e.changed.L = &e.mu
	for i, s := range o.Sources {
		u := &unit{index: i, target: o.Placement.Target(s.Path)}
		u.outcome = Outcome{Source: s, Target: absolute(u.target.Path())}
		root := absolute(u.target.Root)
		if e.roots[root] == nil {
			e.roots[root] = &openRoot{}
		}
		u.root = e.roots[root]
		u.root.users++
		e.units = append(e.units, u)
	}
	return e
}

func (e *engine) run() {
	var workers sync.WaitGroup
	for range e.Workers {
		workers.Go(func() {
			for u, owned := e.take(); u != nil; u, owned = e.take() {
				if owned {
					e.open(u)
				}
				e.fill(u)
			}
		})
	}
	workers.Wait()
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, u := range e.units[e.settled:] { // only after a cancellation
		u.outcome.Err = e.ctx.Err()
		e.letGo(u)
	}
}

// take returns the next thing for a worker to do: a unit that it owns from now
// on, or one to help with; nil when there is nothing left.
func (e *engine) take() (u *unit, owned bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for e.ctx.Err() == nil {
		if e.next < len(e.units) && e.waiting < backlog {
			u := e.units[e.next]
			e.next++
			e.opening++
			u.pending = 1 // the owner's, until it finds nothing more to claim
			return u, true
		}
		for _, u := range e.active {
			if u.claimed < len(u.wanted) && u.err == nil {
				u.pending++
				return u, false
			}
		}
		if e.next == len(e.units) && e.opening == 0 {
			return nil, false
		}
		e.changed.Wait()
	}
	e.changed.Broadcast()
	return nil, false
}

// open makes a unit ready to be staged and lets others help with it.
func (e *engine) open(u *unit) {
	err := u.open(e)
	e.mu.Lock()
	defer e.mu.Unlock()
	u.err = err
	e.opening--
	if err == nil {
		e.active = append(e.active, u)
	}
	e.changed.Broadcast()
}

// fill stages entries of a unit until none is left to claim.
func (e *engine) fill(u *unit) {
	for {
		e.mu.Lock()
		from, to := u.claim(e.ctx)
		e.mu.Unlock()
		if from == to {
			break
		}
		at, err := u.write(e.ctx, from, to)
		if err != nil {
			e.mu.Lock()
			// Entries are claimed in order, so that the first one that fails
			// is the same with any number of workers.
			if u.err == nil || at < u.errAt {
				u.err, u.errAt = err, at
			}
			e.mu.Unlock()
		}
	}
	e.mu.Lock()
	u.pending--
	last := u.pending == 0
	if last {
		for i, other := range e.active {
			if other == u {
				e.active = append(e.active[:i], e.active[i+1:]...)
				break
			}
		}
	}
	e.mu.Unlock()
	if last {
		e.finish(u)
	}
}

// finish commits a unit that is staged, or has failed. Own folders do not wait
// for each other; into a shared root units go in their order. Reports always do.
func (e *engine) finish(u *unit) {
	if e.Placement.Layout == place.Own {
		u.settle(e)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.finished[u.index] = true
	e.waiting += u.bytes
	if e.settling {
		return
	}
	e.settling = true
	for e.settled < len(e.units) && e.finished[e.settled] {
		u := e.units[e.settled]
		e.mu.Unlock()
		if e.Placement.Layout == place.Shared {
			u.settle(e)
		}
		if e.ctx.Err() == nil || u.outcome.Err == nil {
			e.report(&u.outcome)
		}
		e.mu.Lock()
		e.waiting -= u.bytes
		e.units[e.settled] = nil
		e.settled++
		e.changed.Broadcast()
	}
	e.settling = false
}

// preview finds out what run would do, one archive after the other.
func (e *engine) preview() {
	for _, u := range e.units {
		if e.ctx.Err() != nil {
			return
		}
		u.err = u.open(e)
		u.settle(e)
		e.report(&u.outcome)
	}
}

// useRoot opens the root of a unit when the first of its units needs it.
func (e *engine) useRoot(u *unit) (*stage.Root, error) {
	r := u.root
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.stage == nil && r.err == nil {
		open := stage.Open
		if e.DryRun {
			open = stage.Preview
		}
		r.stage, r.err = open(absolute(u.target.Root))
	}
	return r.stage, r.err
}

// letGo closes the root of a unit when no other unit needs it.
func (e *engine) letGo(u *unit) {
	r := u.root
	r.mu.Lock()
	defer r.mu.Unlock()
	r.users--
	if r.users > 0 || r.stage == nil {
		return
	}
	if err := r.stage.Close(); u.outcome.Err == nil && err != nil {
		u.outcome.Err = fault.At(u.outcome.Source.Path, err)
	}
	r.stage = nil
}
