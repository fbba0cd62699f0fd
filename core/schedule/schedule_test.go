package schedule

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// made is a unit of a made-up run. All its times are random, and pass at once in
// the bubble that it runs in.
type made struct {
	run    *madeRun
	name   string
	inside int
	shares int
	weight int64
	fails  string // "open", "do", "settle" or ""
	err    error
}

type madeRun struct {
	mu       sync.Mutex
	random   *rand.Rand
	turns    bool
	opened   []string // in the order of their turns
	settled  []string
	well     []string // settled without an error
	reported []string
	dropped  []string
}

var errMade = errors.New("made to fail")

func (r *madeRun) pause() {
	r.mu.Lock()
	d := time.Duration(r.random.IntN(1000)) * time.Millisecond
	r.mu.Unlock()
	time.Sleep(d)
}

func (r *madeRun) note(list *[]string, name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	*list = append(*list, name)
}

func (m *made) Open(turn func() error) (Work, error) {
	m.run.pause()
	if m.run.turns {
		if err := turn(); err != nil {
			return Work{}, err
		}
		m.run.note(&m.run.opened, m.name)
	}
	if m.fails == "open" {
		return Work{}, errMade
	}
	work := Work{Weight: m.weight}
	for i := range m.inside {
		work.Inside = append(work.Inside, m.run.unit(fmt.Sprintf("%s/%02d", m.name, i), false))
	}
	for i := range m.shares {
		work.Shares = append(work.Shares, 10*i)
	}
	return work, nil
}

func (m *made) Do(share int) (int, error) {
	m.run.pause()
	if m.fails == "do" && share > 0 {
		return 10 * share, fmt.Errorf("%w: %d", errMade, share)
	}
	return 0, nil
}

func (m *made) Settle(err error) error {
	if err == nil && m.fails == "settle" {
		err = errMade
	}
	m.err = err
	if err == nil {
		m.run.note(&m.run.well, m.name)
	}
	m.run.note(&m.run.settled, m.name)
	return err
}

func (m *made) Report() { m.run.note(&m.run.reported, m.name) }
func (m *made) Finish() {}
func (m *made) Drop()   { m.run.note(&m.run.dropped, m.name) }

func (r *madeRun) unit(name string, outer bool) *made {
	r.mu.Lock()
	defer r.mu.Unlock()
	m := &made{run: r, name: name, shares: r.random.IntN(4), weight: r.random.Int64N(50)}
	if outer {
		m.inside = r.random.IntN(4)
	}
	if r.random.IntN(12) == 0 {
		m.fails = []string{"open", "do", "settle"}[r.random.IntN(3)]
	}
	return m
}

// However long each step takes, whatever fails and whenever it is cancelled, a run
// comes to its end: every unit is reported once and in order, or dropped. In a
// bubble that is deadlocked the test fails at once.
func TestLiveness(t *testing.T) {
	runs := 4000
	if testing.Short() {
		runs = 400
	}
	for seed := range runs {
		synctest.Test(t, func(t *testing.T) {
			r := &madeRun{random: rand.New(rand.NewPCG(1, uint64(seed)))}
			o := Options{Workers: []int{1, 2, 3, 8}[seed%4], Ordered: seed/4%2 == 0, Halt: seed/8%2 == 0, Backlog: int64(1 + r.random.IntN(100))}
			r.turns = o.Ordered && seed/16%2 == 0
			var units []Unit
			for i := range 1 + r.random.IntN(12) {
				units = append(units, r.unit(fmt.Sprintf("%02d", i), true))
			}
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			if seed/32%2 == 0 {
				time.AfterFunc(time.Duration(r.random.IntN(8000))*time.Millisecond, cancel)
			}
			dropped := Run(ctx, o, len(units), func(i int) Unit { return units[i] })
			assert.Len(t, r.dropped, dropped)
			for _, list := range [][]string{r.reported, r.opened} {
				assert.True(t, slices.IsSorted(list), "%v", list)
				assert.Len(t, slices.Compact(slices.Clone(list)), len(list))
			}
			for _, name := range r.reported {
				assert.NotContains(t, r.dropped, name)
				assert.Contains(t, r.settled, name)
			}
			for _, name := range r.well {
				assert.Contains(t, r.reported, name, "what was settled without an error is always reported")
			}
			if o.Ordered {
				assert.True(t, slices.IsSorted(r.settled), "%v", r.settled)
			}
			switch {
			case ctx.Err() != nil:
			case !o.Halt:
				assert.Empty(t, r.dropped)
				assert.Equal(t, len(r.settled), len(r.reported))
			default: // all before the first failure, and that, whatever the workers
				failed := slices.DeleteFunc(slices.Sorted(slices.Values(r.settled)), func(name string) bool { return slices.Contains(r.well, name) })
				if len(failed) == 0 {
					assert.Empty(t, r.dropped)
					break
				}
				assert.Contains(t, r.reported, failed[0])
				for _, name := range r.dropped {
					assert.Greater(t, name, failed[0])
				}
				if o.Ordered {
					assert.Equal(t, failed[0], r.reported[len(r.reported)-1])
				}
			}
		})
	}
}

// Done out of order, units that need not wait for each other never count as
// waiting: after a slow first one, all others go on.
func TestNoStallBehindASlowOne(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began := time.Now()
		units := []Unit{&timed{took: time.Hour}}
		for range 50 {
			units = append(units, &timed{took: time.Minute})
		}
		assert.Zero(t, Run(t.Context(), Options{Workers: 2, Backlog: 1}, len(units), func(i int) Unit { return units[i] }))
		assert.Equal(t, time.Hour, time.Since(began))
	})
}

type timed struct{ took time.Duration }

func (u *timed) Open(func() error) (Work, error) {
	time.Sleep(u.took)
	return Work{Weight: 100}, nil
}
func (u *timed) Do(int) (int, error)    { return 0, nil }
func (u *timed) Settle(err error) error { return err }
func (u *timed) Report()                {}
func (u *timed) Finish()                {}
func (u *timed) Drop()                  {}

// The first thing that fails is the same with any number of workers.
func TestFirstFailureIsNamed(t *testing.T) {
	for seed := range 200 {
		synctest.Test(t, func(t *testing.T) {
			r := &madeRun{random: rand.New(rand.NewPCG(2, uint64(seed)))}
			m := &made{run: r, name: "x", shares: 20, fails: "do"}
			Run(t.Context(), Options{Workers: 1 + seed%8}, 1, func(int) Unit { return m })
			assert.ErrorIs(t, m.err, errMade)
			assert.True(t, strings.HasSuffix(m.err.Error(), ": 1"), m.err)
		})
	}
}
