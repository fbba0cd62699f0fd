//go:build linux && amd64

// Command attack puts what the program promises under pressure: it kills it at every
// system call that changes something, lets each of them fail once, fills disks, feeds it
// archives with flipped bits, and runs several at once; each time it looks at what is on
// the disk, and lets the next run put things right.
//
//	go run ./e2e/attack [--for 10m] [--only NAME] [--seed N] [--dir DIR]
//
// Attacks come in a random order that the seed decides. One that finds a promise broken
// says how to repeat it, and ends with 1.
package main

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// harness is what all attacks have in common.
type harness struct {
	dir, program string
	seed         uint64
	until        time.Time
	most         int // attempts of each kind; 0: as many as there is time for
	verbose      bool

	mu       sync.Mutex
	tried    map[string]int
	refused  map[string]int // attempts that ended with an error, which was the right thing
	broken   []string
	peak     int64         // memory of a run, in bytes
	longest  time.Duration // of a run
	prepared map[string]*prepared
}

// attacks are the kinds, in the order in which they are reported.
var attacks = []struct {
	name, what string
	run        func(h *harness, random *rand.Rand) error // one attempt; an error is a broken promise
}{
	{"kill", "killed at a system call, or at any moment", (*harness).kill},
	{"fail", "a system call fails: no room, no right, a bad disk", (*harness).fail},
	{"limits", "small disks, few open files, closed and full outputs", (*harness).limit},
	{"bytes", "archives that are cut off, have bits flipped, or numbers that lie", (*harness).flip},
	{"races", "two to six runs at once, stopped and continued, sources that change", (*harness).race},
}

func main() {
	h := &harness{tried: map[string]int{}, refused: map[string]int{}, prepared: map[string]*prepared{}}
	duration := flag.Duration("for", time.Minute, "how long, over all kinds")
	only := flag.String("only", "", "a kind, or several with commas: kill, fail, limits, bytes, races")
	flag.IntVar(&h.most, "most", 0, "no more than this many attempts of each kind")
	flag.Uint64Var(&h.seed, "seed", uint64(time.Now().UnixNano()), "decides what is tried, and in which order")
	flag.StringVar(&h.dir, "dir", memory(), "where it works: on the disk that is to be tried")
	flag.BoolVar(&h.verbose, "v", false, "say what is tried")
	flag.Parse()
	if err := h.run(*duration, *only); err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(1)
	}
}

// memory is a memory-backed folder where the system has one.
func memory() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return os.TempDir()
}

func (h *harness) run(duration time.Duration, only string) (err error) {
	if h.dir, err = os.MkdirTemp(h.dir, "widecrate-attack-"); err != nil {
		return err
	}
	h.program = filepath.Join(h.dir, "widecrate")
	build := exec.Command("go", "build", "-o", h.program, "widecrate/cmd/widecrate")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if err := h.prepare(); err != nil {
		return err
	}
	if err := h.prepareBytes(); err != nil {
		return err
	}
	chosen := attacks
	if only != "" {
		names := strings.Split(only, ",")
		chosen = nil
		for _, a := range attacks {
			if slices.Contains(names, a.name) {
				chosen = append(chosen, a)
			}
		}
	}
	if len(chosen) == 0 {
		return fmt.Errorf("there is no kind %q", only)
	}
	fmt.Printf("seed %d, in %s, %d at once\n", h.seed, h.dir, runtime.GOMAXPROCS(0))
	for i, a := range chosen {
		h.until = time.Now().Add(duration / time.Duration(len(chosen)))
		h.repeat(a.name, uint64(i), a.run)
		fmt.Printf("%-7s %6d tried, %6d ended with an error, %d broke a promise   (%s)\n", a.name, h.tried[a.name], h.refused[a.name], h.brokenOf(a.name), a.what)
	}
	fmt.Printf("the largest run took %d MiB, the longest %s\n", h.peak>>20, h.longest.Round(time.Millisecond))
	if len(h.broken) > 0 {
		return errors.New(strings.Join(h.broken, "\n"))
	}
	return os.RemoveAll(h.dir)
}

func (h *harness) brokenOf(kind string) (n int) {
	for _, b := range h.broken {
		if strings.HasPrefix(b, kind+" ") {
			n++
		}
	}
	return n
}

// repeat makes attempts of a kind on all cores. Attempt n depends on the seed and on n
// alone.
func (h *harness) repeat(kind string, number uint64, attempt func(*harness, *rand.Rand) error) {
	var next int
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for {
				h.mu.Lock()
				n := next
				next++
				over := time.Now().After(h.until) || h.most > 0 && n >= h.most || len(h.broken) >= 10
				h.mu.Unlock()
				if over {
					return
				}
				err := attempt(h, rand.New(rand.NewPCG(h.seed, number<<32|uint64(n))))
				h.mu.Lock()
				h.tried[kind]++
				if err != nil {
					h.broken = append(h.broken, fmt.Sprintf("%s %d, seed %d: %v", kind, n, h.seed, err))
				}
				h.mu.Unlock()
			}
		})
	}
	workers.Wait()
}

// ended notes that an attempt ended with an error, as it should.
func (h *harness) ended(kind string) {
	h.mu.Lock()
	h.refused[kind]++
	h.mu.Unlock()
}
