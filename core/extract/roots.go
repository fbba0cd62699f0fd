package extract

import (
	"fmt"
	"sync"

	"widecrate/core/place"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// roots are the destination roots of a run, each open while units need it.
type roots struct {
	mu    sync.Mutex
	known map[string]*openRoot
}

// openRoot is a destination root with the number of units that still need it.
type openRoot struct {
	path  string
	mu    sync.Mutex
	stage *stage.Root
	look  *stage.Preview // of a dry run
	err   error
	users int
}

// expect notes that one more unit needs a root.
func (r *roots) expect(path string) *openRoot {
	root := r.at(path)
	root.mu.Lock()
	root.users++
	root.mu.Unlock()
	return root
}

// at is the root at a path.
func (r *roots) at(path string) *openRoot {
	r.mu.Lock()
	defer r.mu.Unlock()
	path = storage.Absolute(path)
	key := place.Key(path)
	if r.known == nil {
		r.known = map[string]*openRoot{}
	}
	if r.known[key] == nil {
		r.known[key] = &openRoot{path: path}
	}
	return r.known[key]
}

// use opens a root when the first of its units needs it.
func (o *openRoot) use(r *run) (*stage.Root, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.stage == nil && o.err == nil {
		if o.stage, o.err = stage.Open(o.path, r.Staging); o.err == nil {
			r.reclaimed(o.path, o.stage.Reclaimed)
		}
	}
	return o.stage, o.err
}

// lookAt is use for a dry run.
func (o *openRoot) lookAt() (*stage.Preview, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.look == nil && o.err == nil {
		o.look, o.err = stage.Look(o.path)
	}
	return o.look, o.err
}

// letGo closes a root when no other unit needs it. What was put into place is there,
// whatever is left of the work.
func (o *openRoot) letGo(r *run) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.users--; o.users > 0 {
		return
	}
	if o.look != nil {
		o.look.Close()
		o.look = nil
	}
	if o.stage == nil {
		return
	}
	if err := o.stage.Close(); err != nil {
		r.notice(fmt.Sprintf("some unfinished work could not be cleared away; the next run there tries it again: %v", err))
	}
	o.stage = nil
}

// reclaimed says what was found of earlier runs.
func (r *run) reclaimed(path string, found stage.Reclaimed) {
	for _, left := range found.Left {
		r.notice(left)
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
	r.notice(text)
}
