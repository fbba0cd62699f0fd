package extract

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/stage"
)

// backlog bounds the bytes that are staged and wait for their turn to be
// committed.
var backlog int64 = 1 << 30

// engine shares the work out. A worker takes archives of its own as long as
// there are any, and then helps with the entries of those of others: small
// archives never meet in one folder, and a large one is not left to one worker.
//
// The units form a list in the order of the sources; archives found inside
// another come right behind it. Units are taken in that order, reported in it,
// and, where they share a folder, committed in it.
type engine struct {
	Options
	observer Observer
	telling  sync.Mutex
	long     atomic.Int32 // entries that are being written and are long
	ctx      context.Context
	ordered  bool    // commits are in order too
	sources  []*unit // those of the sources themselves
	first    *unit

	mu       sync.Mutex
	changed  sync.Cond
	queue    []*unit // those that nobody took, the next one last
	opening  int     // units that were taken and are not open yet
	active   []*unit // being staged
	head     *unit   // the first that is not committed and reported
	planned  *unit   // the first that has not found its places
	settling bool
	halted   bool
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

func newEngine(ctx context.Context, o Options, observe Observer) *engine {
	e := &engine{Options: o, observer: observe, ctx: ctx, roots: map[string]*openRoot{},
		ordered: o.Placement.Layout != place.Own || o.Nested > 0}
	e.changed.L = &e.mu
	if e.Progress == nil {
		e.Progress = &Progress{}
	}
	var last *unit
	for _, s := range o.Sources {
		u := &unit{outcome: Outcome{Archive: s.Path, Source: s}}
		u.top = u
		var err error
		u.target, err = o.Placement.Target(place.Archive{Path: s.Path, Into: s.Into, Sub: s.Sub, Name: s.Name()})
		if err != nil && s.Err == nil {
			u.outcome.Source.Err = fault.At(s.Path, err)
		}
		u.outcome.Target = absolute(u.target.Path())
		e.needRoot(u)
		e.sources = append(e.sources, u)
		if last != nil {
			last.next = u
		} else {
			e.first = u
		}
		last = u
	}
	e.queue = slices.Clone(e.sources)
	slices.Reverse(e.queue)
	e.head, e.planned = e.first, e.first
	return e
}

func (e *engine) run() {
	stop := context.AfterFunc(e.ctx, func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.changed.Broadcast()
	})
	defer stop()
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
	// After a cancellation or a halt, units are left that nobody took.
	left := 0
	for u := e.head; u != nil; u = u.next {
		u.top.untaken = true
		left++
		u.close()
		e.letGo(u)
	}
	if e.halted && left > 0 {
		e.notice(fmt.Sprintf("stopped at the first failure: %d archives were not taken", left))
	}
}

// take returns the next thing for a worker to do: a unit that it owns from now
// on, or one to help with; nil when there is nothing left.
func (e *engine) take() (u *unit, owned bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for e.ctx.Err() == nil {
		if n := e.nextInQueue(); n >= 0 && !e.halted {
			u := e.queue[n]
			e.queue = slices.Delete(e.queue, n, n+1)
			e.opening++
			u.pending = 1 // the owner's, until it finds nothing more to claim
			return u, true
		}
		for _, u := range e.active {
			if u.claimed < len(u.shares) && u.err == nil {
				u.pending++
				return u, false
			}
		}
		if (len(e.queue) == 0 || e.halted) && e.opening == 0 {
			return nil, false
		}
		e.changed.Wait()
	}
	return nil, false
}

// nextInQueue is the place of the unit to take next, or -1 where that has to wait:
// the last one, or if too much waits, the one that all others wait for, wherever
// it is. That one is never held back.
func (e *engine) nextInQueue() int {
	n := len(e.queue) - 1
	if e.waiting >= backlog && n >= 0 && e.queue[n] != e.head {
		return slices.Index(e.queue, e.head)
	}
	return n
}

// open makes a unit ready to be staged and lets others help with it.
func (e *engine) open(u *unit) {
	err := u.open(e)
	e.mu.Lock()
	defer e.mu.Unlock()
	u.err = err
	e.opening--
	if err == nil {
		e.insert(u)
		e.active = append(e.active, u)
	}
	if !u.isPlanned {
		e.plannedLocked(u)
	}
	e.changed.Broadcast()
}

// insert puts the archives inside a unit behind it.
func (e *engine) insert(u *unit) {
	behind := u.next
	for _, inner := range slices.Backward(u.inner) {
		inner.next = behind
		behind = inner
		e.queue = append(e.queue, inner)
	}
	u.next = behind
}

// errHalted is the error of a unit that the run was halted before.
var errHalted = errors.New("stopped before it")

// awaitTurn waits until all units before this one have found their places:
// names that count depend on it. Once the run is halted they may never do so.
func (e *engine) awaitTurn(u *unit) error {
	if e.Placement.Rename == nil || !e.Placement.Rename.Counts() || !e.ordered || e.DryRun {
		return nil
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for e.planned != u {
		if e.ctx.Err() != nil {
			return e.ctx.Err()
		}
		if e.halted && slices.Contains(e.queue, e.planned) {
			return errHalted // that one will not be taken any more
		}
		e.changed.Wait()
	}
	return nil
}

// plannedLocked notes that a unit, and its inner ones, are in the list.
func (e *engine) plannedLocked(u *unit) {
	u.isPlanned = true
	for e.planned != nil && e.planned.isPlanned {
		e.planned = e.planned.next
	}
}

// fill stages entries of a unit until none is left to claim.
func (e *engine) fill(u *unit) {
	for {
		e.mu.Lock()
		share := u.claim(e.ctx)
		e.mu.Unlock()
		if share == nil {
			break
		}
		if at, err := u.write(e, share); err != nil {
			e.mu.Lock()
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
		e.active = slices.DeleteFunc(e.active, func(other *unit) bool { return other == u })
	}
	e.mu.Unlock()
	if last {
		e.finish(u)
	}
}

// finish commits a unit that is staged, or has failed. Own folders do not wait
// for each other; units that share one go in their order. Reports always do.
func (e *engine) finish(u *unit) {
	if !e.ordered {
		u.settle(e)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	u.finished = true
	if e.ordered { // else it is in its place already
		e.waiting += u.bytes
	}
	e.halted = e.halted || e.Halt && (u.err != nil || u.outcome.Err != nil)
	e.changed.Broadcast()
	if e.settling {
		return
	}
	e.settling = true
	for e.head != nil && e.head.finished {
		u := e.head
		e.mu.Unlock()
		if e.ordered {
			u.settle(e)
		}
		if e.ctx.Err() == nil || u.outcome.Err == nil {
			e.tell(&u.outcome)
		}
		e.mu.Lock()
		e.halted = e.halted || e.Halt && u.outcome.Err != nil
		if e.ordered {
			e.waiting -= u.bytes
		}
		e.head = u.next
		e.changed.Broadcast()
	}
	e.settling = false
	e.changed.Broadcast()
}

// preview finds out what run would do, one archive after the other.
func (e *engine) preview() {
	for u := e.first; u != nil && e.ctx.Err() == nil; u = u.next {
		u.err = u.open(e)
		if u.err == nil {
			e.insert(u)
		}
		u.settle(e)
		e.tell(&u.outcome)
		if e.Halt && u.outcome.Err != nil {
			return
		}
	}
}

// needRoot notes that a unit needs its root.
func (e *engine) needRoot(u *unit) {
	key := absolute(u.target.Root)
	if e.roots[key] == nil {
		e.roots[key] = &openRoot{}
	}
	u.root = e.roots[key]
	u.root.mu.Lock()
	u.root.users++
	u.root.mu.Unlock()
}

// useRoot opens the root of a unit when the first of its units needs it.
func (e *engine) useRoot(u *unit) (*stage.Root, error) {
	r := u.root
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.stage != nil || r.err != nil {
		return r.stage, r.err
	}
	path := absolute(u.target.Root)
	if e.DryRun {
		r.stage, r.err = stage.Preview(path)
		return r.stage, r.err
	}
	r.stage, r.err = stage.Open(path, e.Staging)
	if r.err == nil {
		e.reclaimed(path, r.stage.Reclaimed)
	}
	return r.stage, r.err
}

// reclaimed says what was found of earlier runs.
func (e *engine) reclaimed(path string, found stage.Reclaimed) {
	for _, left := range found.Left {
		e.notice(left)
	}
	if found.Cleared+found.Finished+found.TakenBack == 0 {
		return
	}
	text := path + ": cleared away what a run that was killed had left"
	if n := found.Finished; n > 0 {
		text += fmt.Sprintf("; the merging of %d archives that it had begun is complete now", n)
	}
	if n := found.TakenBack; n > 0 {
		text += fmt.Sprintf("; the merging of %d archives that had failed is taken back now", n)
	}
	e.notice(text)
}

// tell reports an outcome, whose list of entries may be large and is let go of
// afterwards.
func (e *engine) tell(o *Outcome) {
	e.telling.Lock()
	defer e.telling.Unlock()
	e.observer.Archive(o)
	o.Placed = nil
}

// lose takes note of what could not be had of a damaged archive.
func (e *engine) lose(u *unit, entry string, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	where := u.outcome.Archive
	if entry != "" {
		err = fault.At(entry, err)
	}
	u.outcome.Lost = append(u.outcome.Lost, Lost{entry, fault.At(where, err)})
}

func (e *engine) notice(text string) {
	e.telling.Lock()
	defer e.telling.Unlock()
	e.observer.Notice(text)
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
		u.outcome.Err = fault.At(u.outcome.Archive, err)
	}
	r.stage = nil
}
