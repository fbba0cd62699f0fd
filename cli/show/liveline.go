package show

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/mattn/go-runewidth"
)

// Progress is one line about how far something is, drawn again and again. On
// the screens that are named, the line steps aside for what else is printed.
type Progress struct {
	screen *Screen
	text   func() string
	mu     sync.Mutex
	drawn  bool
	done   chan struct{}
	idle   sync.WaitGroup
}

// StartProgress draws what text returns on a screen, a few times a second on a
// terminal, else a line now and then. The other screens may share the terminal.
func StartProgress(s *Screen, text func() string, others ...*Screen) *Progress {
	p := &Progress{screen: s, text: text, done: make(chan struct{})}
	for _, other := range append(others, s) {
		if other.Terminal {
			other.gate.before = p.clear
		}
	}
	every := 200 * time.Millisecond
	if !s.Terminal {
		every = 5 * time.Second
	}
	p.idle.Go(func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-p.done:
				return
			case <-tick.C:
				p.draw()
			}
		}
	})
	return p
}

func (p *Progress) draw() {
	p.mu.Lock()
	defer p.mu.Unlock()
	line := p.text()
	if !p.screen.Terminal {
		fmt.Fprintln(p.screen.gate.w, line)
		return
	}
	if p.screen.Width > 0 {
		line = runewidth.Truncate(line, p.screen.Width-1, "…")
	}
	fmt.Fprint(p.screen.gate.w, "\r\x1b[K"+line)
	p.drawn = true
}

func (p *Progress) clear() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.drawn {
		fmt.Fprint(p.screen.gate.w, "\r\x1b[K")
		p.drawn = false
	}
}

// Stop removes the line.
func (p *Progress) Stop() {
	close(p.done)
	p.idle.Wait()
	p.clear()
}

// Rate is a line about work: what was done, how fast, and how long the rest
// takes, as far as that is known. done and all are in the same unit.
func Rate(took time.Duration, bytes, done, all int64, parts ...string) string {
	if seconds := took.Seconds(); seconds > 0.5 {
		parts = append(parts, Size(int64(float64(bytes)/seconds))+"/s")
		if done > 0 && done < all {
			left := time.Duration(float64(took) * float64(all-done) / float64(done))
			parts = append(parts, "about "+left.Round(time.Second).String()+" left")
		}
	}
	return strings.Join(parts, " · ")
}
