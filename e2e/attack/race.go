//go:build linux && amd64

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// race lets something else happen while a run works.
func (h *harness) race(random *rand.Rand) error {
	switch random.IntN(5) {
	case 0:
		return h.changing(random)
	case 1:
		return h.swapped(random)
	case 2:
		return h.overlapping(random)
	}
	return h.several(random)
}

// overlapping runs: one swaps a folder while another puts files into a folder in it. Whatever
// either says, no folder is a mixture, nothing is left, and what was delivered last is there.
func (h *harness) overlapping(random *rand.Rand) error {
	p := h.scene("fresh")
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	if code, printed := h.command(dir, "create inner.zip in/deep --top drop"); code != 0 {
		return fmt.Errorf("%s", printed)
	}
	pause := time.Duration(random.IntN(8)) * time.Millisecond
	lines := []string{"extract n.zip --into out --fresh", "extract inner.zip --into out/n/in --layout shared --clash replace"}
	results := make([]result, len(lines))
	var runs sync.WaitGroup
	for i, line := range lines {
		runs.Go(func() {
			results[i] = h.during(dir, line, func(*exec.Cmd) {}, func(p *os.Process) {
				_ = p.Signal(syscall.SIGSTOP) // it may have ended
				time.Sleep(pause)
				_ = p.Signal(syscall.SIGCONT)
			})
		})
	}
	runs.Wait()
	how := fmt.Sprintf("a swap and a run in it, after %s: %d %q, %d %q", pause, results[0].code, results[0].output, results[1].code, results[1].output)
	now, hidden, err := look(filepath.Join(dir, "out"))
	switch {
	case err != nil:
		return err
	case len(hidden) > 0 && !strings.Contains(how, "could not be cleared away"): // FUSE keeps what somebody has open
		return fmt.Errorf("%s: left: %s", how, strings.Join(hidden, ", "))
	}
	for i, allowed := range [][]int{{0, 3}, {0, 3, 10}} {
		if !slices.Contains(allowed, results[i].code) {
			return fmt.Errorf("%s: a wrong end", how)
		}
	}
	for at, made := range p.after.below("out/n") {
		if content, there := now[strings.TrimPrefix(at, "out/")]; results[0].code == 0 && (!there || content != made) && !strings.HasPrefix(at, "out/n/in/") {
			return fmt.Errorf("%s: %s is not as it was delivered", how, at)
		}
	}
	done()
	return nil
}

// several runs, two to six, work on one root at once, and some are stopped for a while.
// Each of them puts all of its archive there or says why not; every file that is there
// came out of one of the archives, whole; and nothing is left of the work.
func (h *harness) several(random *rand.Rand) error {
	rule := []string{"refuse", "skip", "replace", "newer", "number", "fresh"}[random.IntN(6)]
	count := 2 + random.IntN(5)
	how := fmt.Sprintf("%d runs at once, %s", count, rule)
	dir, err := os.MkdirTemp(h.dir, "race-")
	if err != nil {
		return err
	}
	came := map[string]map[string]bool{} // the contents that each path may have
	for i := range count {
		for path, text := range map[string]string{"both": fmt.Sprintf("of %d", i), "d/both.csv": strings.Repeat(fmt.Sprintf("%d,", i), 9000), fmt.Sprintf("own%d", i): "x"} {
			at := filepath.Join(dir, fmt.Sprint(i), "x", filepath.FromSlash(path))
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
				return err
			}
			if came[path] == nil {
				came[path] = map[string]bool{}
			}
			came[path][text] = true
		}
		if code, printed := h.command(dir, fmt.Sprintf("create %d.zip %d/x --top drop", i, i)); code != 0 {
			return fmt.Errorf("%s", printed)
		}
		if err := os.MkdirAll(filepath.Join(dir, fmt.Sprintf("in%d", i)), 0o755); err != nil {
			return err
		}
		if err := os.Rename(filepath.Join(dir, fmt.Sprintf("%d.zip", i)), filepath.Join(dir, fmt.Sprintf("in%d", i), "x.zip")); err != nil {
			return err
		}
	}
	option := " --clash " + rule
	if rule == "fresh" {
		option = " --fresh"
	}
	results := make([]result, count)
	pauses := make([]time.Duration, count)
	for i := range pauses {
		pauses[i] = time.Duration(random.IntN(12)) * time.Millisecond
	}
	var runs sync.WaitGroup
	for i := range count {
		runs.Go(func() {
			results[i] = h.during(dir, fmt.Sprintf("extract in%d/x.zip --into out%s", i, option), func(*exec.Cmd) {}, func(p *os.Process) {
				if i%2 == 1 {
					return
				}
				time.Sleep(pauses[i])
				_ = p.Signal(syscall.SIGSTOP) // it may have ended
				time.Sleep(3 * pauses[i])
				_ = p.Signal(syscall.SIGCONT)
			})
		})
	}
	runs.Wait()
	now, hidden, err := look(filepath.Join(dir, "out"))
	if err != nil {
		return err
	}
	if len(hidden) > 0 {
		return fmt.Errorf("%s: left: %s", how, strings.Join(hidden, ", "))
	}
	for at, content := range now {
		path := strings.TrimPrefix(at, "x/")
		if path == "" || strings.HasSuffix(path, "/") {
			continue
		}
		base := path
		if rule == "number" && !strings.HasPrefix(path, "own") {
			for n := 2; n <= count; n++ {
				base = strings.Replace(base, fmt.Sprintf("both-%d", n), "both", 1)
			}
		}
		if !came[base][content] {
			return fmt.Errorf("%s: %s has %d bytes of none of the archives", how, at, len(content))
		}
	}
	whole := 0
	for i, r := range results {
		if r.code != 0 && r.code != 3 {
			return fmt.Errorf("%s: run %d ended with %d: %s", how, i, r.code, r.output)
		}
		_, there := now[fmt.Sprintf("x/own%d", i)]
		switch {
		case r.code != 0 && there:
			return fmt.Errorf("%s: run %d failed, and something of it is there: %s", how, i, r.output)
		case r.code == 0 && !there && rule != "fresh":
			return fmt.Errorf("%s: run %d ended with 0, and its files are not there: %s", how, i, r.output)
		case there:
			whole++
		case r.code != 0:
			h.ended("races")
		}
	}
	if rule == "number" {
		for at, contents := range came {
			found := 0
			for path := range now {
				for content := range contents {
					if stem, _, _ := strings.Cut(at, "."); strings.HasPrefix(path, "x/"+stem) && now[path] == content {
						found++
					}
				}
			}
			if found < len(contents) {
				return fmt.Errorf("%s: of %d contents of %s, %d are there", how, len(contents), at, found)
			}
		}
	}
	if rule == "fresh" && whole != 1 {
		return fmt.Errorf("%s: %d of them are there", how, whole)
	}
	return os.RemoveAll(dir)
}

// changing changes an archive while it is read: the run fails, or what comes of it is
// the whole of what it was before or afterwards.
func (h *harness) changing(random *rand.Rand) error {
	p := h.scene("own")
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "a.zip")
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	kind, moment := random.IntN(3), time.Duration(random.Int64N(int64(p.took)))
	r := h.during(dir, "extract a.zip --into out", func(*exec.Cmd) {}, func(*os.Process) {
		time.Sleep(moment)
		switch kind {
		case 0:
			err = os.Truncate(path, int64(random.IntN(len(data))))
		case 1:
			err = os.WriteFile(path, append(data, data...), 0o644)
		default:
			data[len(data)/2] ^= 1
			err = os.WriteFile(path, data, 0o644)
		}
	})
	how := fmt.Sprintf("an archive changes (%d, after %s)", kind, moment)
	if err != nil {
		return err
	}
	now, hidden, err := look(filepath.Join(dir, "out"))
	if r.code != 0 {
		h.ended("races")
		if err == nil && (len(now) > 0 || len(hidden) > 0) {
			return fmt.Errorf("%s: it ended with %d and left something: %s%s", how, r.code, now.differs(tree{}), hidden)
		}
	} else if wrong := now.differs(p.after.below("out/a").from("out")); wrong != "" {
		return fmt.Errorf("%s: it ended with 0, and this is wrong: %s", how, wrong)
	}
	done()
	return nil
}

// from is a tree as seen from one of its folders.
func (t tree) from(dir string) tree {
	seen := tree{}
	for at, content := range t {
		seen[strings.TrimPrefix(at, dir+"/")] = content
	}
	return seen
}

// swapped puts links to a folder elsewhere in place of folders that are being
// filled: nothing may come to lie there.
func (h *harness) swapped(random *rand.Rand) error {
	p := h.scene("replace")
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	outside := filepath.Join(dir, "outside")
	if err := os.MkdirAll(filepath.Join(outside, "er"), 0o755); err != nil {
		return err
	}
	moment := time.Duration(random.Int64N(int64(p.took)))
	r := h.during(dir, p.run, func(*exec.Cmd) {}, func(*os.Process) {
		time.Sleep(moment)
		for range 40 {
			_ = os.Rename(filepath.Join(dir, "out/deep"), filepath.Join(dir, "aside")) // whichever of them works
			_ = os.Symlink("../outside", filepath.Join(dir, "out/deep"))
			time.Sleep(200 * time.Microsecond)
			_ = os.Remove(filepath.Join(dir, "out/deep"))
			_ = os.Rename(filepath.Join(dir, "aside"), filepath.Join(dir, "out/deep"))
		}
	})
	found, _, err := look(outside)
	if err != nil {
		return err
	}
	if wrong := found.differs(tree{}); wrong != "" {
		return fmt.Errorf("a folder becomes a link, after %s: this lies outside: %s (it ended with %d)", moment, wrong, r.code)
	}
	if r.code < 0 || r.code == 1 || r.code == 2 {
		return fmt.Errorf("a folder becomes a link, after %s: it ended with %d: %s", moment, r.code, r.output)
	}
	if r.code != 0 {
		h.ended("races")
	}
	done()
	return nil
}
