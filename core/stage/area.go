package stage

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// prefix starts the names of all that lies about hidden until it is complete.
const prefix = ".widecrate-"

// ownerFile tells, in each staging area, whose it is. It is locked as long as
// its run lives, and touched now and then for those on other hosts, where the
// lock may not be seen.
const (
	ownerFile = "owner"
	heartbeat = 20 * time.Second
	silence   = 30 * heartbeat // after which a run on another host counts as dead
)

// owner is the content of ownerFile.
type owner struct {
	Host string `json:"host"`
	PID  int    `json:"pid"`
	Root string `json:"root"` // the destination root
}

// area is a staging area: a folder that only this run touches.
type area struct {
	*folder
	parent *os.Root
	path   string // of the folder that it lies in
	name   string
	lock   *os.File
	born   time.Time // by the clock of the file system
	done   chan struct{}
}

func openArea(dir, root string) (*area, error) {
	a := &area{path: dir, name: prefix + strings.ToLower(rand.Text()[:10]), done: make(chan struct{})}
	var err error
	if a.parent, err = os.OpenRoot(dir); err != nil {
		return nil, err
	}
	if err := a.open(root); err != nil {
		a.close()
		return nil, err
	}
	go a.beat()
	return a, nil
}

func (a *area) open(root string) (err error) {
	if err := a.parent.Mkdir(a.name, 0o700); err != nil {
		return err
	}
	if a.folder, err = openFolder(a.parent, a.name); err != nil {
		return err
	}
	if a.lock, err = a.OpenFile(ownerFile, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
		return err
	}
	if err := lock(a.lock); err != nil {
		return err
	}
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	text, err := json.Marshal(owner{host, os.Getpid(), root})
	if err != nil {
		return err
	}
	if _, err := a.lock.WriteAt(text, 0); err != nil {
		return err
	}
	info, err := a.lock.Stat()
	if err == nil {
		a.born = info.ModTime()
	}
	return err
}

// beat touches the owner file by writing to it, so that the time is that of the
// file system's own clock.
func (a *area) beat() {
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-a.done:
			return
		case <-tick.C:
			_, _ = a.lock.WriteAt([]byte("{"), 0) // its first byte anyway
		}
	}
}

// close removes the area with all that is left in it.
func (a *area) close() error {
	close(a.done)
	if a.folder != nil {
		a.folder.close()
	}
	if a.lock != nil {
		a.lock.Close()
	}
	err := a.parent.RemoveAll(a.name)
	a.parent.Close()
	return err
}

// Reclaimed counts what dead runs had left behind.
type Reclaimed struct {
	Finished int // archives that were being moved into place, and now are there
	Cleared  int // staging areas that were removed
}

// reclaim goes through the areas of other runs beside this one, and finishes or
// clears away those that are surely dead.
func (a *area) reclaim(r *Root) error {
	children, err := os.ReadDir(a.path)
	if err != nil {
		return err
	}
	for _, child := range children {
		if child.Name() == a.name || !child.IsDir() || !strings.HasPrefix(child.Name(), prefix) {
			continue
		}
		if err := a.reclaimOne(child.Name(), r); err != nil {
			return err
		}
	}
	return nil
}

func (a *area) reclaimOne(name string, r *Root) error {
	left, err := openFolder(a.parent, name)
	if err != nil {
		return ignoreMissing(err) // its run has just ended
	}
	defer left.close()
	held, dead, err := a.isDead(left, r)
	if held != nil {
		defer held.Close()
	}
	if err != nil || !dead {
		return err
	}
	finished, err := r.finish(left)
	if err != nil {
		return err
	}
	r.Reclaimed.Finished += finished
	r.Reclaimed.Cleared++
	return a.parent.RemoveAll(name)
}

// isDead reports whether the run that owns an area is gone, and holds its lock
// if so. In doubt a run is alive.
func (a *area) isDead(left *folder, r *Root) (held *os.File, dead bool, err error) {
	f, err := left.OpenFile(ownerFile, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) { // being made or removed, unless it is old
		info, err := left.Stat(".")
		return nil, err == nil && a.born.Sub(info.ModTime()) > silence, ignoreMissing(err)
	}
	if err != nil {
		return nil, false, err
	}
	if lock(f) != nil {
		f.Close()
		return nil, false, nil
	}
	text, err := left.ReadFile(ownerFile)
	if err != nil {
		return f, false, ignoreMissing(err)
	}
	info, err := f.Stat()
	if err != nil {
		return f, false, err
	}
	silent := a.born.Sub(info.ModTime()) > silence
	var o owner
	if json.Unmarshal(text, &o) != nil { // killed while it wrote its first line
		return f, silent, nil
	}
	host, err := os.Hostname()
	if err != nil {
		return f, false, err
	}
	return f, (o.Host == host || silent) && a.isFor(o.Root, r), nil
}

// isFor reports whether an area was staging for the same root.
func (a *area) isFor(root string, r *Root) bool {
	if filepath.Clean(a.path) == filepath.Clean(r.path) {
		return true
	}
	theirs, err := os.Stat(root)
	if err != nil {
		return false
	}
	ours, err := os.Stat(r.path)
	return err == nil && os.SameFile(theirs, ours)
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
