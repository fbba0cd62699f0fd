//go:build linux && amd64

// Command attack puts what the program promises under pressure: it kills it at every
// system call that changes something, lets each of them fail once, fills disks, feeds it
// archives with flipped bits, and runs several at once; each time it looks at what is on
// the disk, and lets the next run put things right.
//
//	go run ./e2e/attack [--for 10m] [--only NAME] [--seed N] [--dir DIR | --on KIND] [--user]
//
// Attacks come in a random order that the seed decides. One that finds a promise broken
// says how to repeat it, and ends with 1. With --on, it mounts the file systems that it works
// on, and says which it cannot mount.
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
	"syscall"
	"time"

	"widecrate/e2e/places"
)

// harness is what all attacks have in common.
type harness struct {
	base, kind   string // where it works, and the file system that it has mounted there; empty: none
	user         bool   // work as an ordinary one
	dir, program string // of this place; what is attacked
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
	prepared []*prepared
	failing  []failure // in the order in which they are tried
	served   served
}

// attacks are the kinds, in the order in which they are reported.
var attacks = []struct {
	name, what string
	run        func(h *harness, n int, random *rand.Rand) error // the n-th attempt; an error is a broken promise
}{
	{"kill", "killed at a system call, or at any moment", random((*harness).kill)},
	{"fail", "a system call fails: no room, no right, a bad disk", (*harness).fail},
	{"limits", "small disks, few open files, closed and full outputs", random((*harness).limit)},
	{"bytes", "archives that are cut off, have bits flipped, or numbers that lie", random((*harness).flip)},
	{"users", "one user's run is killed, and another user's goes on", random((*harness).users)},
	{"planted", "somebody has planted what another user's dead run could have left", random((*harness).planted)},
	{"servers", "killed while it works at a server, SFTP or WebDAV", random((*harness).servers)},
	{"races", "two to six runs at once, stopped and continued, sources that change", random((*harness).race)},
}

// random is an attempt for which it does not matter which it is.
func random(attempt func(*harness, *rand.Rand) error) func(*harness, int, *rand.Rand) error {
	return func(h *harness, _ int, random *rand.Rand) error { return attempt(h, random) }
}

// errAll says that there is nothing left to try.
var errAll = errors.New("all of it was tried")

func main() {
	h := &harness{}
	duration := flag.Duration("for", time.Minute, "how long, over all kinds")
	only := flag.String("only", "", "a kind, or several with commas: kill, fail, limits, bytes, users, planted, servers, races")
	flag.IntVar(&h.most, "most", 0, "no more than this many attempts of each kind")
	flag.Uint64Var(&h.seed, "seed", uint64(time.Now().UnixNano()), "decides what is tried, and in which order")
	flag.StringVar(&h.base, "dir", memory(), "where it works: on the disk that is to be tried")
	flag.StringVar(&h.program, "program", "", "what is attacked (default: it is built)")
	on := flag.String("on", "", "file systems that are mounted to work on, with commas, or all: "+strings.Join(places.Kinds, ", "))
	flag.BoolVar(&h.user, "user", false, "as an ordinary user, where it is root")
	flag.BoolVar(&h.verbose, "v", false, "say what is tried")
	flag.Parse()
	if err := h.everywhere(*on, *duration, *only); err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(1)
	}
}

// everywhere works in its folder, or on each of the file systems that are named.
func (h *harness) everywhere(on string, duration time.Duration, only string) error {
	work, err := os.MkdirTemp(memory(), "widecrate-attacker-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := os.Chmod(work, 0o777); err != nil { // the work of an ordinary user may begin there
		return err
	}
	if h.program == "" {
		h.program = filepath.Join(work, "widecrate")
		build := exec.Command("go", "build", "-o", h.program, "widecrate/cmd/widecrate")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	}
	if on == "" {
		return h.there(duration, only)
	}
	kinds := strings.Split(on, ",")
	if on == "all" {
		kinds = places.Kinds
	}
	var broken error
	for _, kind := range kinds {
		p, err := places.Mount(kind)
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Println("on", kind)
		h.kind, h.base = kind, p.Dir
		broken = errors.Join(broken, h.there(duration/time.Duration(len(kinds)), only), p.Unmount())
	}
	return broken
}

// there works in its folder, as the user that it is or as an ordinary one.
func (h *harness) there(duration time.Duration, only string) error {
	if !h.user || os.Geteuid() != 0 {
		return h.run(duration, only)
	}
	_ = os.Chmod(h.base, 0o777) // some cannot, and let all in anyway
	own, err := os.Executable()
	if err != nil {
		return err
	}
	there := filepath.Join(filepath.Dir(h.program), "attack")
	text, err := os.ReadFile(own)
	if err == nil {
		err = os.WriteFile(there, text, 0o755)
	}
	if err != nil {
		return err
	}
	cmd := exec.Command(there, "--dir", h.base, "--program", h.program, "--for", duration.String(), "--only", only, "--most", fmt.Sprint(h.most), "--seed", fmt.Sprint(h.seed))
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: ordinary, Gid: ordinary}}
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	return cmd.Run()
}

// ordinary is the number of a user without rights.
const ordinary = 65534

// memory is a memory-backed folder where the system has one.
func memory() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return os.TempDir()
}

func (h *harness) run(duration time.Duration, only string) (err error) {
	if h.dir, err = os.MkdirTemp(h.base, "widecrate-attack-"); err != nil {
		return err
	}
	if err := os.Chmod(h.dir, 0o755); err != nil { // other users work below it, too
		return err
	}
	h.tried, h.refused, h.prepared, h.broken, h.served = map[string]int{}, map[string]int{}, nil, nil, served{}
	if err := h.prepare(); err != nil {
		return err
	}
	h.prepareFailures()
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
		if a.name == "fail" {
			fmt.Printf("%d of %d: each call of each scene, with each of %d errors\n", min(len(h.failing), h.tried[a.name]), len(h.failing), len(errnos))
		}
		fmt.Printf("%-7s %6d tried, %6d ended with an error, %d broke a promise   (%s)\n", a.name, h.tried[a.name], h.refused[a.name], h.brokenOf(a.name), a.what)
	}
	fmt.Printf("the largest run took %d MiB, the longest %s\n", h.peak>>20, h.longest.Round(time.Millisecond))
	if len(h.broken) > 0 {
		return errors.New(strings.Join(h.broken, "\n"))
	}
	return removeAll(h.dir)
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
func (h *harness) repeat(kind string, number uint64, attempt func(*harness, int, *rand.Rand) error) {
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
				err := attempt(h, n, rand.New(rand.NewPCG(h.seed, number<<32|uint64(n))))
				if err == errAll {
					return
				}
				h.mu.Lock()
				h.tried[kind]++
				if err != nil {
					h.broken = append(h.broken, fmt.Sprintf("%s %d, seed %d: %v", kind, n, h.seed, err))
					fmt.Println("BROKEN:", h.broken[len(h.broken)-1])
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
