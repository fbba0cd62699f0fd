//go:build linux && amd64

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"widecrate/e2e/traced"
)

// kill kills a run: mostly before one of the calls that change something, each as
// likely, otherwise at any moment.
func (h *harness) kill(random *rand.Rand) (err error) {
	p := h.some(random)
	at, moment := 1+random.IntN(p.calls), time.Duration(0)
	how := fmt.Sprintf("call %d of %d", at, p.calls)
	if random.IntN(4) == 0 {
		moment = time.Duration(random.Int64N(int64(p.took)))
		how = fmt.Sprintf("after %s", moment)
	}
	defer func() { err = p.explain(how, err) }()
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	var r result
	if moment > 0 {
		r = h.during(dir, p.run, func(*exec.Cmd) {}, func(process *os.Process) {
			time.Sleep(moment)
			_ = process.Kill() // it may have ended
		})
	} else {
		r, err = h.trace(dir, p.run, func(c traced.Call) traced.Verdict { return traced.Verdict{Kill: c.N == at} })
	}
	if err != nil {
		return err
	}
	if !r.killed && r.code != p.code {
		return fmt.Errorf("it ended with %d: %s", r.code, r.output)
	}
	if r.killed {
		h.ended("kill")
	}
	if err := p.rightNow(dir); err != nil {
		return err
	}
	if err := h.rightInTheEnd(p, dir, p.sources != ""); err != nil {
		return err
	}
	done()
	return nil
}

// explain says in which scene a promise was broken.
func (p *prepared) explain(how string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s (widecrate %s), %s: %w", p.name, p.run, how, err)
}

// names reports whether a text names something of the scene.
func (p *prepared) names(text string) bool {
	for _, word := range append(strings.Fields(p.run)[1:], append(p.whole, "r.jsonl", "charts.tar.gz")...) {
		if !strings.HasPrefix(word, "-") && len(word) > 4 && strings.Contains(text, word) {
			return true
		}
	}
	return false
}

// errnos are what disks, file systems and rights answer.
var errnos = []syscall.Errno{syscall.ENOSPC, syscall.EACCES, syscall.EIO, syscall.EROFS, syscall.EDQUOT}

// failure is one call of a scene that fails with one of them.
type failure struct {
	p     *prepared
	call  int
	errno syscall.Errno
}

// prepareFailures puts all that there can be into an order that the seed decides.
func (h *harness) prepareFailures() {
	h.failing = nil
	for _, p := range h.prepared {
		for call := range p.calls {
			for _, errno := range errnos {
				h.failing = append(h.failing, failure{p, call + 1, errno})
			}
		}
	}
	rand.New(rand.NewPCG(h.seed, 0)).Shuffle(len(h.failing), func(i, j int) { h.failing[i], h.failing[j] = h.failing[j], h.failing[i] })
}

// fail lets one call fail.
func (h *harness) fail(n int, _ *rand.Rand) (err error) {
	if n >= len(h.failing) {
		return errAll
	}
	p, at, errno := h.failing[n].p, h.failing[n].call, h.failing[n].errno
	var failed traced.Call
	how := func() string {
		return fmt.Sprintf("call %d of %d (%s %s) fails: %v", at, p.calls, failed.Name, failed.Path, errno)
	}
	defer func() { err = p.explain(how(), err) }()
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	r, err := h.trace(dir, p.run, func(c traced.Call) traced.Verdict {
		if c.N != at {
			return traced.Verdict{}
		}
		failed = c
		return traced.Verdict{Errno: errno}
	})
	if err != nil {
		return err
	}
	if err := p.rightNow(dir); err != nil {
		return err
	}
	if err := h.meanwhile(p, dir); err != nil {
		return err
	}
	now, hidden, err := look(dir)
	if err != nil {
		return err
	}
	removing := failed.Name == "remove"
	switch {
	case r.killed || strings.Contains(r.output, "goroutine "):
		return fmt.Errorf("it crashed: %s", r.output)
	case r.code == p.code && now.differs(p.after) != "":
		return fmt.Errorf("it ended as in peace, and this is wrong: %s", now.differs(p.after))
	case r.code != 0 && !strings.Contains(r.output, "/") && !p.names(r.output):
		return fmt.Errorf("it names no path: %q", r.output)
	case r.code == 2 || r.code == 1 && p.code == 0:
		return fmt.Errorf("it ended with %d: %s", r.code, r.output)
	case len(hidden) > 0 && !removing && !strings.Contains(r.output, hidden[0]):
		return fmt.Errorf("it left %s without a word: %q", strings.Join(hidden, ", "), r.output)
	}
	if r.code != 0 {
		h.ended("fail")
	}
	if err := h.rightInTheEnd(p, dir, removing || p.sources != ""); err != nil {
		return err
	}
	done()
	return nil
}
