package main

import (
	"container/heap"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"

	"widecrate/core/source"
)

// What the simulation assumes: so many tasks run at once, each takes a while to start and to
// list all archives, and an archive takes a time that is very uneven: the largest of a
// million is as much as 5,000 usual ones.
const (
	slots       = 100
	startOfTask = 1.0     // seconds
	listing     = 0.00001 // for each archive
	usual       = 0.02    // for the archive in the middle
	spread      = 1.8     // of the logarithm of the time
)

// simulateShares shows how even the shares are that the hash makes, and what comes of it: the
// largest share beside the mean, and the time that all take beside that of a division that is
// perfect and free, in which only the longest archive may be longer than its share.
func simulateShares() {
	fmt.Printf("%d tasks at once\n\n%9s  %7s  %16s  %20s\n", slots, "archives", "shares", "largest ÷ mean", "time ÷ perfect")
	for _, archives := range []int{10_000, 100_000, 1_000_000} {
		r := rand.New(rand.NewPCG(1, 2))
		costs := make([]float64, archives)
		total := 0.0
		for i := range costs {
			costs[i] = usual * math.Exp(r.NormFloat64()*spread)
			total += costs[i]
		}
		for _, shares := range []int{100, 300, 1000, 3000, 10_000} {
			of := make([]float64, shares)
			for i, cost := range costs {
				s := source.Source{Path: fmt.Sprintf("day-%07d.zip", i), Sub: fmt.Sprintf("%04d", i/1000)}
				s.Path = filepath.Join("in", s.Sub, s.Path)
				of[s.Share(shares)] += cost
			}
			largest := slices.Max(of) / (total / float64(shares))
			for i := range of {
				of[i] += startOfTask + listing*float64(archives)
			}
			fmt.Printf("%9d  %7d  %16.2f  %20.2f\n", archives, shares, largest, inTurn(of)/max(total/slots, slices.Max(costs)))
		}
	}
}

// inTurn is how long tasks take that are started in their order, each when a slot is free.
func inTurn(tasks []float64) float64 {
	free := make(times, slots)
	end := 0.0
	for _, t := range tasks {
		at := free[0] + t
		free[0] = at
		heap.Fix(&free, 0)
		end = max(end, at)
	}
	return end
}

// times are when slots are free, the first one first.
type times []float64

func (t times) Len() int           { return len(t) }
func (t times) Less(i, j int) bool { return t[i] < t[j] }
func (t times) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }
func (t *times) Push(x any)        { *t = append(*t, x.(float64)) }
func (t *times) Pop() any {
	last := len(*t) - 1
	x := (*t)[last]
	*t = (*t)[:last]
	return x
}
