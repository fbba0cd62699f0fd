// Package schedule shares work out among workers, so that what comes of it does
// not depend on how many there are: units are taken, settled and reported in
// their order, a large one is not left to one worker, and what waits for its turn
// is bounded. It knows nothing of what the work is.
package schedule

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"

	"widecrate/core/fault"
)

// A Unit is work that is settled as a whole. Its methods are called by one
// goroutine at a time, but for Do.
type Unit interface {
	// Open makes the unit ready and says what there is to do. Calling turn waits
	// until all units before this one are open, those inside them included; its
	// error is to be returned.
	Open(turn func() error) (Work, error)

	// Do works on one share, on any goroutine. An error comes with the number of the
	// thing at which the work failed.
	Do(share int) (at int, err error)

	// Finish is called when there is nothing more to do, or something failed, before the
	// unit waits to be settled: what only Do needs need not wait.
	Finish()

	// Settle ends the unit, with the error of Open, that of Do at the first thing
	// that failed, or that of the context. The error that it returns is the
	// unit's.
	Settle(err error) error

	// Report is called when the unit and all before it are settled.
	Report()

	// Drop is called instead of Settle and Report, in the end and in order, for a unit
	// that is not taken, or not brought to its end, after a halt or a cancellation.
	Drop()
}

// Work is what there is to do for a unit.
type Work struct {
	Inside []Unit // units that come right after this one
	Shares []int  // the first thing of each share; claimed in this order
	Weight int64  // of what is held until the unit is settled, in bytes
}

// Options say how the work is shared out. Zero values are the usual ones.
type Options struct {
	Workers int   // 0: one for each processor
	Ordered bool  // units are settled in their order; else as soon as they are done
	Halt    bool  // after the first unit, in their order, that fails, take no other, and in order settle none
	Backlog int64 // bounds the weight of units that are done and not settled; 0: 1 GiB
}

const defaultBacklog = 1 << 30

// Run works on so many units, and on those inside them, until all are done, or ctx is
// cancelled, or the run is halted. Each is asked for once, in order, when it is taken or
// dropped: there may be millions. It returns how many were dropped.
func Run(ctx context.Context, o Options, units int, unit func(i int) Unit) (dropped int) {
	s := &scheduler{Options: o, ctx: ctx, units: units, unit: unit}
	if s.Workers < 1 {
		s.Workers = runtime.GOMAXPROCS(0)
	}
	if s.Backlog <= 0 {
		s.Backlog = defaultBacklog
	}
	s.changed.L = &s.mu
	stop := context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.changed.Broadcast()
	})
	defer stop()
	var workers sync.WaitGroup
	for range s.Workers {
		workers.Go(s.work)
	}
	workers.Wait()
	if s.fault != nil { // nobody would know of the rest
		panic(s.fault)
	}
	for n := s.head; n != nil; n = n.next {
		if n.settled { // after one that was not taken
			s.report(n)
			continue
		}
		n.unit.Drop()
		dropped++
	}
	for ; s.listed < s.units; s.listed++ {
		s.unit(s.listed).Drop()
		dropped++
	}
	return dropped
}

// node is a unit in the list of those that were taken and those inside them, in their order.
type node struct {
	unit Unit
	next *node
	work Work

	// Under the lock:
	claimed int // shares that were handed out
	pending int // workers that are busy with it
	err     error
	errAt   int
	isOpen  bool
	done    bool
	cut     bool // one before it failed, and the run halts there
	settled bool
}

// scheduler shares the work out. A worker takes units of its own as long as there
// are any, and then helps with those of others: small ones never meet, and a large
// one is not left to one worker.
type scheduler struct {
	Options
	ctx context.Context

	mu       sync.Mutex
	changed  sync.Cond
	units    int
	unit     func(i int) Unit
	listed   int     // units that have a node
	restCut  bool    // none of the others is taken, after a halt
	queue    []*node // those that nobody took, the next one last
	opening  int     // nodes that were taken and are not open yet
	active   []*node // with shares to claim
	head     *node   // the first that is not settled and reported
	tail     *node   // the last
	opened   *node   // the first that is not open
	settling bool
	fault    *fault.Panic // of a report
	waiting  int64        // weight of those that are done and not settled
}

func (s *scheduler) work() {
	for n, owned := s.take(); n != nil; n, owned = s.take() {
		if owned {
			s.open(n)
		}
		s.fill(n)
	}
}

// take returns the next thing for a worker to do: a node that it owns from now
// on, or one to help with; nil when there is nothing left.
func (s *scheduler) take() (n *node, owned bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.ctx.Err() == nil {
		if n := s.next(); n != nil {
			s.opening++
			n.pending = 1 // the owner's, until it finds nothing more to claim
			return n, true
		}
		for _, n := range s.active {
			if n.claimed < len(n.work.Shares) && n.err == nil && !s.abandoned(n) {
				n.pending++
				return n, false
			}
		}
		if len(s.queue) == 0 && (s.listed == s.units || s.restCut) && s.opening == 0 {
			return nil, false
		}
		s.changed.Wait()
	}
	return nil, false
}

// next takes the node that comes next, or nil where that has to wait: the last of the queue or
// else one that is not listed yet, or if too much waits, the one that all others wait for, which is never
// held back.
func (s *scheduler) next() *node {
	full := s.waiting >= s.Backlog
	at := len(s.queue) - 1
	if full && at >= 0 {
		at = slices.Index(s.queue, s.head)
	}
	if at >= 0 {
		n := s.queue[at]
		s.queue = slices.Delete(s.queue, at, at+1)
		return n
	}
	if len(s.queue) > 0 || s.listed == s.units || s.restCut || full && s.head != nil {
		return nil
	}
	n := &node{unit: s.unit(s.listed)}
	s.listed++
	if s.head == nil {
		s.head = n
	} else {
		s.tail.next = n
	}
	s.tail = n
	if s.opened == nil {
		s.opened = n
	}
	return n
}

// open makes a node ready and lets others help with it.
func (s *scheduler) open(n *node) {
	var work Work
	err := fault.Guard(func() (err error) {
		work, err = n.unit.Open(func() error { return s.awaitTurn(n) })
		return err
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	s.opening--
	n.isOpen = true
	if n.err = err; err == nil {
		n.work = work
		s.insert(n)
		s.active = append(s.active, n)
	}
	for s.opened != nil && s.opened.isOpen {
		s.opened = s.opened.next
	}
	s.changed.Broadcast()
}

// insert puts the units inside a node after it.
func (s *scheduler) insert(n *node) {
	for _, u := range slices.Backward(n.work.Inside) {
		n.next = &node{unit: u, next: n.next, cut: n.cut}
		if s.tail == n {
			s.tail = n.next
		}
		if !n.cut {
			s.queue = append(s.queue, n.next)
		}
	}
}

// halt leaves out what comes after a node that failed. What comes before it goes on, so that
// the first failure is the same with any number of workers.
func (s *scheduler) halt(n *node) {
	if !s.Halt || n.err == nil || n.cut {
		return
	}
	s.restCut = true
	for after := n.next; after != nil && !after.cut; after = after.next {
		after.cut = true
	}
	s.queue = slices.DeleteFunc(s.queue, func(queued *node) bool { return queued.cut })
}

// errHalted is the error of a unit that the run was halted before.
var errHalted = errors.New("the run was halted before it")

// awaitTurn waits until all nodes before this one are open. In a run that halts
// before it they may never be.
func (s *scheduler) awaitTurn(n *node) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.opened != n {
		if s.ctx.Err() != nil {
			return s.ctx.Err()
		}
		if n.cut {
			return errHalted
		}
		s.changed.Wait()
	}
	return nil
}

// fill works on shares of a node until none is left to claim.
func (s *scheduler) fill(n *node) {
	for {
		share, found := s.claim(n)
		if !found {
			break
		}
		at := n.work.Shares[share]
		err := fault.Guard(func() (err error) {
			at, err = n.unit.Do(share)
			return err
		})
		if err != nil {
			s.mu.Lock()
			if n.err == nil || at < n.errAt {
				n.err, n.errAt = err, at
			}
			s.mu.Unlock()
		}
	}
	s.mu.Lock()
	n.pending--
	last := n.pending == 0
	if last {
		s.active = slices.DeleteFunc(s.active, func(other *node) bool { return other == n })
	}
	s.mu.Unlock()
	if last {
		s.finish(n)
	}
}

// claim hands out the next share of a node.
func (s *scheduler) claim(n *node) (share int, found bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n.claimed < len(n.work.Shares) && s.ctx.Err() == nil && !s.abandoned(n) {
		share := n.claimed
		n.claimed++
		// What stands before a thing that failed is still tried, so that the
		// first one that fails is the same with any number of workers.
		if n.err == nil || n.work.Shares[share] < n.errAt {
			return share, true
		}
	}
	return 0, false
}

// abandoned reports whether a node will not be settled.
func (s *scheduler) abandoned(n *node) bool { return n.cut && s.Ordered }

// finish settles a node whose work is done, or has failed. In order, or as soon
// as that; reports always come in order.
func (s *scheduler) finish(n *node) {
	_ = fault.Guard(func() error { n.unit.Finish(); return nil }) // what is wrong with it, its end says
	if !s.Ordered {
		s.settle(n)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	n.done = true
	if s.Ordered {
		s.waiting += n.work.Weight
	}
	s.halt(n)
	s.changed.Broadcast()
	if s.settling {
		return
	}
	s.settling = true
	for s.head != nil && s.head.done && !s.abandoned(s.head) {
		n := s.head
		s.mu.Unlock()
		if s.Ordered {
			s.settle(n)
		}
		s.report(n)
		s.mu.Lock()
		s.halt(n)
		if s.Ordered {
			s.waiting -= n.work.Weight
		}
		s.head = n.next
		s.changed.Broadcast()
	}
	s.settling = false
}

func (s *scheduler) settle(n *node) {
	err := n.err
	if s.ctx.Err() != nil {
		err = s.ctx.Err()
	}
	n.err = fault.Guard(func() error { return n.unit.Settle(err) })
	n.settled = true
}

// report lets a node be reported, unless it failed because of a cancellation.
func (s *scheduler) report(n *node) {
	if s.ctx.Err() == nil || n.err == nil {
		err := fault.Guard(func() error { n.unit.Report(); return nil })
		if ours, ok := errors.AsType[*fault.Panic](err); ok && s.fault == nil {
			s.fault = ours
		}
	}
}
